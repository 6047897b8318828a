// Package cloudref is how a profile names an instance of a cloud account. It stands beneath schema, which takes such a
// name as a value, and cloud, which asks for what is named. Start with Parse.
package cloudref

import (
	"regexp"
	"strings"
	"sync"

	"gentleharbor/core/profile/syntax"
)

// Ref names an instance of a cloud account, or a branch of one: ACCOUNT/INSTANCE[/BRANCH].
type Ref struct {
	Account  string // also "project:NAME"
	Instance string // "" for the account alone, where a command takes either
	Branch   string // "" for the instance itself
}

// Parse reads ACCOUNT/INSTANCE[/BRANCH]; ok is false for anything else.
func Parse(s string) (r Ref, ok bool) {
	parts := strings.Split(s, "/")
	if len(parts) < 2 || len(parts) > 3 || !syntax.ValidName(strings.TrimPrefix(parts[0], syntax.ProjectPrefix)) {
		return Ref{}, false
	}
	for _, part := range parts[1:] {
		if !ValidName(part) {
			return Ref{}, false
		}
	}
	r = Ref{Account: parts[0], Instance: parts[1]}
	if len(parts) == 3 {
		r.Branch = parts[2]
	}
	return r, true
}

// String is the reference as a profile writes it.
func (r Ref) String() string {
	text := r.Account
	for _, part := range []string{r.Instance, r.Branch} {
		if part != "" {
			text += "/" + part
		}
	}
	return text
}

// Within is the reference without the account: INSTANCE, or INSTANCE/BRANCH.
func (r Ref) Within() string {
	r.Account = ""
	return strings.TrimPrefix(r.String(), "/")
}

// instanceName bounds the names of instances, branches and features: those of providers have at most 98 characters.
var instanceName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,127}$`)
})

// ValidName reports whether a text may be the name of an instance, a branch or a feature. Such a name is a part of
// commands to try and of URLs, so it has no character that means something there.
func ValidName(s string) bool { return instanceName().MatchString(s) }
