package schema

import (
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// OlderAlgorithms are those that a hop may ask for by name: none of them is used
// otherwise. Some are broken, and all are out of date (OpenSSH's release notes say
// since when each is off by default).
var OlderAlgorithms = []string{
	"diffie-hellman-group14-sha1", "diffie-hellman-group1-sha1", "diffie-hellman-group-exchange-sha1",
	"ssh-rsa", "ssh-dss", "aes128-cbc", "3des-cbc", "hmac-sha1", "hmac-sha1-96",
}

// hopFields lists every key of a hop in the order in which the tool writes and
// shows them.
var hopFields = []Field{
	{Name: "ssh", InWord: true, Expected: "the name of a host in your SSH client configuration",
		Summary: "read host, port, user and keys from this host in ~/.ssh/config", valid: validAlias},
	{Name: "host", InWord: true, Expected: "a host name or an IP address, without port or user",
		Summary: "the jump host", Expands: true, valid: syntax.ValidHost},
	{Name: "proxy", InWord: true, Expected: "socks5://HOST:PORT or http://HOST:PORT, without a user",
		Summary: "a SOCKS5 or HTTP CONNECT proxy in place of a jump host", valid: validProxy},
	{Name: "port", InWord: true, Kind: Number, Expected: "a number from 1 to 65535",
		Summary: "its SSH port (default 22)", Expands: true, valid: validPort},
	{Name: "user", InWord: true, Expected: "a name", Summary: "the user there (default: your own name)",
		Expands: true, valid: notEmpty},
	{Name: "key", NotBound: true, Private: true, Expected: "a path",
		Summary: "a private key file (default: the usual ones in ~/.ssh)", Path: true, valid: notEmpty},
	{Name: "key-secret", NotBound: true, Source: true, Expected: "a secret source: " + secret.HopForms,
		Summary: "where the key's passphrase is", valid: secret.ValidForHop},
	{Name: "agent", NotBound: true, Kind: Switch, Expected: "true or false",
		Summary: "try the keys of the SSH agent too (default true)"},
	{Name: "secret", NotBound: true, Source: true, Expected: "a secret source: " + secret.HopForms,
		Summary: "where the account's password is", valid: secret.ValidForHop},
	{Name: "host-key", Expected: "a fingerprint such as SHA256:…, or a key such as ssh-ed25519 AAAA…",
		Summary: "the hop's own key: a fingerprint or a key line", valid: validHostKey},
	{Name: "algorithms", Kind: List, Expected: "older algorithms by name: " + strings.Join(OlderAlgorithms, ", "),
		Summary: "older algorithms to allow, by name", valid: oneOf(OlderAlgorithms)},
}

var hopFieldByName = func() map[key.Name]*Field {
	for i := range hopFields {
		hopFields[i].Hop = true
	}
	return indexFields(hopFields)
}()

// HopFields returns the description of every key of a hop, in writing order: the table itself, not
// to be changed.
func HopFields() []Field { return hopFields }

// HopField returns the description of a hop's key, or nil.
func HopField(name key.Name) *Field { return hopFieldByName[name] }

// hopKey matches hop.NUMBER.KEY, as a command line names a hop's key. Expressions are compiled at their first use:
// most runs need none.
var hopKey = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^hop\.([1-9][0-9]?)\.([a-z-]+)$`) })

// ParseHopKey takes hop.NUMBER.KEY apart. ok is false for anything else, and field
// is nil for a key that no hop has.
func ParseHopKey(s string) (number int, field *Field, ok bool) {
	m := hopKey().FindStringSubmatch(s)
	if m == nil {
		return 0, nil, false
	}
	number, _ = strconv.Atoi(m[1])
	return number, hopFieldByName[key.Name(m[2])], true
}

// UnknownHopKey is the message for a key that no hop has, with the nearest one.
func UnknownHopKey(name string) string {
	if slices.Contains(syntax.PasswordKeys, strings.ToLower(name)) {
		return "profiles hold no passwords; say where it is: secret (of the account) or key-secret (of the key)"
	}
	return UnknownOf(name, "a hop", hopFields)
}

// UnknownOf names the nearest key that a table has, else all of them.
func UnknownOf(name, table string, fields []Field) string {
	names := namesOf(fields)
	text := "unknown key " + clean.Name(name)
	if near := nearest.Name(name, names); near != "" {
		return text + fmt.Sprintf("; did you mean %q?", near)
	}
	return text + "; " + table + " has " + strings.Join(names, ", ")
}

// validAlias accepts what may follow Host in an SSH client configuration and is
// one name: no pattern, and nothing that could be taken for an option.
func validAlias(s string) bool {
	return s != "" && len(s) <= 253 && !strings.HasPrefix(s, "-") && !strings.ContainsAny(s, " \t\"'*?!,;|&<>$`\\")
}

func validProxy(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "socks5" && u.Scheme != "http" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" || u.Path != "" && u.Path != "/" {
		return false
	}
	host, port, err := net.SplitHostPort(u.Host)
	return err == nil && syntax.ValidHost(host) && validPort(port)
}

var (
	fingerprint = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}=?$`) })
	keyLine     = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(ssh|ecdsa|sk-ssh|sk-ecdsa)-[a-z0-9@.-]+ [A-Za-z0-9+/]{60,}={0,2}( .*)?$`)
	})
)

func validHostKey(s string) bool { return fingerprint().MatchString(s) || keyLine().MatchString(s) }
