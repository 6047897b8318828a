// Package wording has words of tables and messages that several groups of commands share: a profile's address,
// plurals, and the reason of a system error.
package wording

import (
	"errors"
	"fmt"
	"os/exec"
	"strconv"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// ListValue is a value for a list: as in the file, with variables unexpanded.
func ListValue(r *resolve.Profile, k key.Name) string {
	e, ok := r.Get(k)
	if !ok {
		return ""
	}
	if e.Template != "" {
		return clean.Line(e.Template, 60)
	}
	return clean.Line(e.Value.Text(), 60)
}

// Address is a profile's address in one word, with the number of hops before it.
func Address(r *resolve.Profile) string { return ShortAddress(r) + BehindHops(len(r.Hops())) }

func BehindHops(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return " (1 hop)"
	}
	return fmt.Sprintf(" (%d hops)", n)
}

// HopWords are the hops as written, for JSON.
func HopWords(r *resolve.Profile) []string {
	var words []string
	for _, word := range r.HopWords() {
		words = append(words, clean.Line(word, 200))
	}
	return words
}

// ShortAddress is a profile's address in one word.
func ShortAddress(r *resolve.Profile) string {
	return r.Address().Short(r, func(k key.Name) string { return ListValue(r, k) })
}

// Count is a number of things in words, its thousands apart: 1,234 rows.
func Count(n int, one, many string) string {
	digits := strconv.Itoa(n)
	for i := len(digits) - 3; i > 0 && n >= 1000; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits + " " + Plural(n, one, many)
}

func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func PlainReason(err error) string {
	var execError *exec.Error
	if errors.As(err, &execError) {
		err = execError.Err
	}
	return atomicfile.Plain(err).Error()
}
