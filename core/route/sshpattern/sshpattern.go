// Package sshpattern matches names as OpenSSH's files write them: * is any text, ?
// one character, and everything else stands for itself (ssh_config(5), PATTERNS;
// sshd(8), SSH_KNOWN_HOSTS FILE FORMAT).
package sshpattern

import "strings"

// Match judges one pattern, in time that grows with the product of the lengths.
// Letter case counts; host names are put into small letters before.
func Match(pattern, name string) bool {
	star, mark := -1, 0
	i, j := 0, 0
	for j < len(name) {
		switch {
		case i < len(pattern) && pattern[i] == '*':
			star, mark = i, j
			i++
		case i < len(pattern) && (pattern[i] == '?' || pattern[i] == name[j]):
			i++
			j++
		case star >= 0:
			mark++
			i, j = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[i:], "*") == ""
}

// List judges the patterns of hosts together: one must match, and none with "!" before it.
// Letter case does not count.
func List(patterns []string, name string) bool {
	return exact(patterns, strings.ToLower(name), strings.ToLower)
}

// Exact is List where letter case counts: the names of a Host line, and accounts.
func Exact(patterns []string, name string) bool {
	return exact(patterns, name, func(s string) string { return s })
}

func exact(patterns []string, name string, fold func(string) string) bool {
	matched := false
	for _, pattern := range patterns {
		plain, negated := strings.CutPrefix(pattern, "!")
		if !Match(fold(plain), name) {
			continue
		}
		if negated {
			return false
		}
		matched = true
	}
	return matched
}
