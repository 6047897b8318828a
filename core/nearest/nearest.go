// Package nearest finds the valid name nearest to a mistyped one.
package nearest

import (
	"slices"
	"strings"
)

// Name returns the candidate closest to word by edit distance (insertions,
// deletions, substitutions and swaps of neighbours, letter case aside), or ""
// when none is close enough to be worth proposing.
func Name(word string, candidates []string) string {
	names := Names(word, candidates, 1)
	if len(names) == 0 {
		return ""
	}
	return names[0]
}

// Names returns up to n close candidates, closest first; of equals the likelier slip, then in the order given.
func Names(word string, candidates []string, n int) []string {
	const longest = 64 // longer words are no slips of the finger, and cost is quadratic
	word = strings.ToLower(word)
	if word == "" || len(word) > longest {
		return nil
	}
	limit := max(1, len(word)/3)
	var found [longest + 1][]string
	for _, candidate := range candidates {
		lower := strings.ToLower(candidate)
		if len(lower) > longest {
			continue
		}
		d := distance(word, lower)
		if lower != "" && d > 1 && lower[0] != word[0] {
			continue // no proposal is better than a wrong one
		}
		if d > limit && !(len(word) >= 4 &&
			(strings.HasPrefix(lower, word) || strings.HasPrefix(word, lower) && len(lower) >= 4)) {
			continue
		}
		found[d] = append(found[d], candidate)
	}
	var names []string
	for _, at := range found {
		slices.SortStableFunc(at, func(a, b string) int { return rank(word, a) - rank(word, b) })
		for _, name := range at {
			if len(names) == n {
				return names
			}
			names = append(names, name)
		}
	}
	return names
}

// rank orders candidates of the same distance: first a longer word or a letter typed twice, then swapped letters,
// then a letter too many or too few.
func rank(word, candidate string) int {
	candidate = strings.ToLower(candidate)
	if strings.HasPrefix(candidate, word) {
		return 0
	}
	for i := 1; i < len(word); i++ {
		if word[i] == word[i-1] && word[:i]+word[i+1:] == candidate {
			return 0
		}
	}
	return 1 + max(len(word)-len(candidate), len(candidate)-len(word))
}

// distance is the optimal string alignment distance between a and b, in bytes.
func distance(a, b string) int {
	before := make([]int, len(b)+1)
	last := make([]int, len(b)+1)
	now := make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}
