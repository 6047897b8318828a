// Package secret holds secrets and finds them: it has the type that hides its value, and the sources that a profile
// may name (ask, env:, file:, passfile, none). On the way from profile to report it stands beside the route: a source
// is located before the first dial, and read only after the server has asked for a password.
package secret

import (
	"fmt"
	"io"
	"log/slog"
	"strings"
)

// Hidden is the text that a Value shows, however it is printed.
const Hidden = "[hidden]"

// Value is a secret. However it is formatted, marshalled or logged, it shows
// as [hidden]; only Disclose gives its text. The text sits behind a pointer to
// a string because package fmt prints the bytes of an unexported field without
// calling its methods, and for a verb that does not fit even the struct behind
// a pointer. The zero Value is no secret at all, which is not the same as
// an empty password: see Present.
//
// Memory can't be promised clean: drivers take strings, and Go copies them.
type Value struct{ text *string }

// NewValue wraps s. An empty s is an empty password.
func NewValue(s string) Value { return Value{&s} }

// Present reports whether there is a secret, be it an empty one.
func (v Value) Present() bool { return v.text != nil }

// Empty reports whether the secret is there and empty.
func (v Value) Empty() bool { return v.text != nil && *v.text == "" }

// Disclose returns the secret's text. Only code that sends it to a server, or writes it to a file that only its owner
// can read, may call it.
func (v Value) Disclose() string {
	if v.text == nil {
		return ""
	}
	return *v.text
}

// String, GoString, Format, MarshalText, MarshalJSON and LogValue hide the secret wherever a Value is printed.
func (Value) String() string { return Hidden }

func (Value) GoString() string { return Hidden }

func (Value) Format(f fmt.State, _ rune) { io.WriteString(f, Hidden) }

func (Value) MarshalText() ([]byte, error) { return []byte(Hidden), nil }

func (Value) MarshalJSON() ([]byte, error) { return []byte(`"` + Hidden + `"`), nil }

func (Value) LogValue() slog.Value { return slog.StringValue(Hidden) }

// Same reports whether two secrets are the same text.
func (v Value) Same(o Value) bool { return v.Disclose() == o.Disclose() }

// Holds reports whether a secret contains another's text, as a URL contains a password. A text of fewer than eight
// characters may be there by chance, and does not count.
func (v Value) Holds(o Value) bool {
	const least = 8
	return len(o.Disclose()) >= least && strings.Contains(v.Disclose(), o.Disclose())
}
