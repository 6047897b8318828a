// Package sshconfig reads OpenSSH's client configuration (ssh_config(5)) for one
// host: what a profile's hop takes from it, where each value stands, and what can't
// be honoured. It runs no command and connects to nothing. It stands beside the
// profile, before the route is made.
//
// It is our own because it must say the file and line of each value, judge each
// Match by itself (one that can't be judged must not cost the hosts beside it), and
// look for files where the user's home is said to be.
package sshconfig

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/owner"
	"gentleharbor/core/route/sshpattern"
)

// Bounds of what is read: a configuration is written by hand.
const (
	maxFile  = 1 << 20
	maxFiles = 256
	maxDepth = 16 // of Include, as OpenSSH has it
)

// Setting is a value and the place where it stands.
type Setting struct {
	Value string
	File  string
	Line  int // from 1; 0 for a default
}

// String is the place as a person writes it.
func (s Setting) String() string { return fmt.Sprintf("%s:%d", s.File, s.Line) }

// Host is what the configuration says for one host. Values are as written but for
// tokens, variables and "~", which are expanded.
type Host struct {
	Alias  string
	Listed bool // a Host or Match line other than one for all hosts names it

	HostName     Setting // the alias where nothing is said
	Port         Setting // "22" where nothing is said
	User         Setting // the local user where nothing is said
	HostKeyAlias Setting
	Jump         []string // ProxyJump, in order from here; nil for none
	JumpAt       Setting

	IdentityFiles    []Setting // nil where nothing is said: the usual ones
	CertificateFiles []Setting
	IdentitiesOnly   bool
	IdentityAgent    Setting // "none", or a socket's path; "" where nothing is said
	UserKnownHosts   []Setting
	GlobalKnownHosts []Setting
	ConnectTimeout   time.Duration
	AliveInterval    time.Duration
	AliveCount       int
	NoPublicKey      bool
	NoPassword       bool
	NoInteractive    bool
	NotHonoured      []string // what is not honoured, a line each, with its place
}

// Refusal is a line that can't be honoured and must not be by-passed.
type Refusal struct {
	At   Setting
	What string
}

func (r *Refusal) Error() string { return fmt.Sprintf("%s: %s", r.At, r.What) }

// Reader is what reading takes from the machine.
type Reader struct {
	Home   string                           // the user's home folder
	User   string                           // the local user's name
	System string                           // the folder of the system's configuration; "" for /etc/ssh
	Lookup func(name string) (string, bool) // environment variables
}

// Read reads the user's configuration, then the system's, for the host that a
// person calls alias. A file that is not there says nothing. The error is a
// *Refusal, or says which file can't be read.
func (r Reader) Read(alias string) (*Host, error) {
	if r.System == "" {
		r.System = "/etc/ssh"
	}
	p := &parser{Reader: r, host: &Host{Alias: alias}, seen: make(map[string]Setting)}
	for _, place := range []struct{ path, folder string }{
		{filepath.Join(r.Home, ".ssh", "config"), filepath.Join(r.Home, ".ssh")}, {filepath.Join(r.System, "ssh_config"), r.System},
	} {
		if err := p.file(place.path, place.folder, 0, true); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return p.finish()
}

// parser gathers what files say. The first value of a keyword counts.
type parser struct {
	Reader
	host  *Host
	seen  map[string]Setting // by keyword, in small letters
	lists map[string][]Setting
	files int
}

// file reads one file. active is whether the block around its Include applies.
func (p *parser) file(path, folder string, depth int, active bool) error {
	if p.files++; p.files > maxFiles || depth > maxDepth {
		return &Refusal{Setting{File: path}, "too many files are included"}
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	if uid, ok := owner.Of(info); ok && (uid != os.Getuid() && uid != 0 || info.Mode().Perm()&0o022 != 0) {
		return &Refusal{Setting{File: path}, "others can change this file, so OpenSSH does not use it either; chmod go-w mends it"}
	}
	data, err := atomicfile.Read(path, maxFile)
	if err != nil {
		return fmt.Errorf("%s: %w", path, atomicfile.Plain(err))
	}
	outer := active
	number := 0
	for text := range strings.Lines(string(data)) {
		number++
		at := Setting{File: path, Line: number}
		keyword, args, err := split(text)
		if err != nil {
			return &Refusal{at, err.Error()}
		}
		switch keyword {
		case "":
		case "host":
			active = outer && sshpattern.List(args, p.host.Alias)
			p.host.Listed = p.host.Listed || active && !slices.Equal(args, []string{"*"})
		case "match":
			matched, doubt := p.matchesCriteria(args)
			active = outer && matched
			if outer && doubt != "" {
				if err := p.doubtful(at, doubt, string(data), number); err != nil {
					return err
				}
			}
			p.host.Listed = p.host.Listed || active && !slices.Equal(args, []string{"all"})
		case "include":
			if err := p.include(args, folder, depth, active); err != nil {
				return err
			}
		default:
			if active {
				if err := p.take(keyword, args, at); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// include reads the files that an Include line names, in lexical order.
func (p *parser) include(patterns []string, folder string, depth int, active bool) error {
	for _, pattern := range patterns {
		path := p.home(pattern)
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		found, _ := filepath.Glob(path)
		for _, one := range found {
			if info, err := os.Stat(one); err != nil || info.IsDir() {
				continue
			}
			if err := p.file(one, folder, depth+1, active); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// doubtful is a Match that can't be judged. Where its block says something of how
// to get there, that can't be passed over in silence; a proxy that it may ask for
// can't be passed over at all.
func (p *parser) doubtful(at Setting, doubt, data string, from int) error {
	var touched []string
	number := 0
	for text := range strings.Lines(data) {
		if number++; number <= from {
			continue
		}
		keyword, _, _ := split(text)
		if keyword == "host" || keyword == "match" {
			break
		}
		if strings.HasPrefix(keyword, "proxy") {
			return &Refusal{at, fmt.Sprintf("Match %s decides over %s there, and gharbor can't judge it", doubt, keyword)}
		}
		if slices.Contains(used, keyword) {
			touched = append(touched, keyword)
		}
	}
	if len(touched) > 0 {
		p.ignored(at, "Match %s can't be judged, so what it says of %s is passed over", doubt, strings.Join(touched, ", "))
	}
	return nil
}

func (p *parser) ignored(at Setting, what string, args ...any) {
	p.host.NotHonoured = append(p.host.NotHonoured, fmt.Sprintf("%s: ", at)+fmt.Sprintf(what, args...))
}

// used are the keywords that are honoured.
var used = []string{"hostname", "port", "user", "hostkeyalias", "proxyjump", "identityfile", "certificatefile", "identitiesonly", "identityagent",
	"userknownhostsfile", "globalknownhostsfile", "connecttimeout", "serveraliveinterval", "serveralivecountmax",
	"pubkeyauthentication", "passwordauthentication", "kbdinteractiveauthentication"}

// passedOver are keywords that change how a host is reached or trusted and are not
// honoured, with what is done instead. A value that asks for nothing special is no
// reason to speak.
var passedOver = map[string]struct{ unless, instead string }{
	"stricthostkeychecking":            {"yes ask true accept-new", "host keys are always checked here"},
	"nohostauthenticationforlocalhost": {"no", "host keys are always checked here"},
	"knownhostscommand":                {"none", "no command is run; host keys come from files"},
	"pkcs11provider":                   {"none", "keys on a smart card are offered only by an agent"},
	"hostkeyalgorithms":                {"", "the hop's algorithms key names older ones"},
	"kexalgorithms":                    {"", "the hop's algorithms key names older ones"},
	"ciphers":                          {"", "the hop's algorithms key names older ones"},
	"macs":                             {"", "the hop's algorithms key names older ones"},
	"pubkeyacceptedalgorithms":         {"", "the hop's algorithms key names older ones"},
	"preferredauthentications":         {"", "the order is: agent and key files, questions, password"},
	"addressfamily":                    {"any", "addresses of both families are tried"},
	"bindaddress":                      {"", "the system chooses the address"},
	"bindinterface":                    {"", "the system chooses the interface"},
	"canonicalizehostname":             {"no", "the host's name is taken as it is"},
}

// refused are keywords that can't be honoured, and without which another host could
// be reached or trusted.
var refused = map[string]string{
	"proxycommand":    "ProxyCommand reaches the host through a program, and gharbor starts none; name the jump host with ProxyJump, or the way in the profile's own hops",
	"revokedhostkeys": "RevokedHostKeys can't be honoured; write the keys into known_hosts with @revoked",
}

// take notes the first value of a keyword; some gather all.
func (p *parser) take(keyword string, args []string, at Setting) error {
	at.Value = strings.Join(args, " ")
	switch keyword {
	case "identityfile", "certificatefile":
		if p.lists == nil {
			p.lists = make(map[string][]Setting)
		}
		if len(args) != 1 {
			return &Refusal{at, keyword + " takes one path"}
		}
		p.lists[keyword] = append(p.lists[keyword], at)
		return nil
	case "dsaauthentication", "challengeresponseauthentication":
		keyword = "kbdinteractiveauthentication"
	case "pubkeyacceptedkeytypes":
		keyword = "pubkeyacceptedalgorithms"
	}
	if _, again := p.seen[keyword]; again {
		return nil
	}
	if _, jump := p.seen["proxyjump"]; jump && keyword == "proxycommand" {
		return nil // whichever of the two stands first keeps the other out
	}
	if _, command := p.seen["proxycommand"]; command && keyword == "proxyjump" {
		return nil
	}
	p.seen[keyword] = at
	rule, noticed := passedOver[keyword]
	if noticed && !slices.Contains(strings.Fields(rule.unless), strings.ToLower(at.Value)) {
		p.ignored(at, "%s is not honoured: %s", canonical(keyword), rule.instead)
	}
	return nil
}

// canonical is a keyword as people write it, for the few that are said.
func canonical(keyword string) string {
	for _, word := range []string{"StrictHostKeyChecking", "NoHostAuthenticationForLocalhost", "KnownHostsCommand", "PKCS11Provider", "HostKeyAlgorithms", "KexAlgorithms",
		"Ciphers", "MACs", "PubkeyAcceptedAlgorithms", "PreferredAuthentications", "AddressFamily", "BindAddress", "BindInterface", "CanonicalizeHostname"} {
		if strings.EqualFold(word, keyword) {
			return word
		}
	}
	return keyword
}

// finish turns what was gathered into the host.
func (p *parser) finish() (*Host, error) {
	for keyword, why := range refused {
		if at, ok := p.seen[keyword]; ok && !strings.EqualFold(at.Value, "none") {
			return nil, &Refusal{at, why}
		}
	}
	h := p.host
	h.HostName, h.Port, h.User = p.setting("hostname", h.Alias), p.setting("port", "22"), p.setting("user", p.User)
	h.HostName.Value = strings.NewReplacer("%%", "%", "%h", h.Alias).Replace(h.HostName.Value)
	if n, err := strconv.Atoi(h.Port.Value); err != nil || n < 1 || n > 65535 {
		return nil, &Refusal{h.Port, "Port: expected a number from 1 to 65535"}
	}
	if h.HostName.Value == "" || strings.HasPrefix(h.HostName.Value, "-") {
		return nil, &Refusal{h.HostName, "HostName: expected a host name or an address"}
	}
	h.HostKeyAlias = p.setting("hostkeyalias", "")
	if jump := p.setting("proxyjump", ""); jump.Value != "" && !strings.EqualFold(jump.Value, "none") {
		h.JumpAt = jump
		for one := range strings.SplitSeq(jump.Value, ",") {
			h.Jump = append(h.Jump, p.tokens(strings.TrimSpace(one)))
		}
	}
	for _, s := range p.lists["identityfile"] {
		s.Value = p.path(s.Value)
		if !slices.ContainsFunc(h.IdentityFiles, func(o Setting) bool { return o.Value == s.Value }) {
			h.IdentityFiles = append(h.IdentityFiles, s)
		}
	}
	for _, s := range p.lists["certificatefile"] {
		s.Value = p.path(s.Value)
		h.CertificateFiles = append(h.CertificateFiles, s)
	}
	h.UserKnownHosts = p.paths("userknownhostsfile", filepath.Join(p.Home, ".ssh", "known_hosts"), filepath.Join(p.Home, ".ssh", "known_hosts2"))
	h.GlobalKnownHosts = p.paths("globalknownhostsfile", filepath.Join(p.System, "ssh_known_hosts"), filepath.Join(p.System, "ssh_known_hosts2"))
	h.IdentityAgent = p.setting("identityagent", "")
	if name, ok := strings.CutPrefix(h.IdentityAgent.Value, "$"); ok && !strings.HasPrefix(name, "{") || h.IdentityAgent.Value == "SSH_AUTH_SOCK" {
		if !ok {
			name = h.IdentityAgent.Value
		}
		h.IdentityAgent.Value, _ = p.lookup(name)
	} else if !strings.EqualFold(h.IdentityAgent.Value, "none") {
		h.IdentityAgent.Value = p.path(h.IdentityAgent.Value)
	}
	return h, p.switches()
}

// switches reads what is on or off, and times.
func (p *parser) switches() error {
	h := p.host
	for keyword, into := range map[string]struct {
		set *bool
		on  bool
	}{"identitiesonly": {&h.IdentitiesOnly, true}, "pubkeyauthentication": {&h.NoPublicKey, false}, "passwordauthentication": {&h.NoPassword, false}, "kbdinteractiveauthentication": {&h.NoInteractive, false}} {
		s := p.setting(keyword, "")
		yes := slices.Contains([]string{"yes", "true", "unbound", "host-bound"}, strings.ToLower(s.Value))
		no := slices.Contains([]string{"no", "false"}, strings.ToLower(s.Value))
		switch {
		case s.Line == 0:
		case !yes && !no:
			return &Refusal{s, canonical(keyword) + ": expected yes or no"}
		default:
			*into.set = yes == into.on
		}
	}
	for keyword, into := range map[string]*time.Duration{"connecttimeout": &h.ConnectTimeout, "serveraliveinterval": &h.AliveInterval} {
		s := p.setting(keyword, "")
		if s.Line == 0 || strings.EqualFold(s.Value, "none") {
			continue
		}
		d, ok := duration(s.Value)
		if !ok {
			return &Refusal{s, keyword + ": expected a time such as 30 or 1m"}
		}
		*into = d
	}
	if s := p.setting("serveralivecountmax", ""); s.Line > 0 {
		n, err := strconv.Atoi(s.Value)
		if err != nil || n < 0 {
			return &Refusal{s, "ServerAliveCountMax: expected a number"}
		}
		h.AliveCount = n
	}
	return nil
}

func (p *parser) setting(keyword, byDefault string) Setting {
	if s, ok := p.seen[keyword]; ok && s.Value != "" {
		return s
	}
	return Setting{Value: byDefault}
}

// paths are the files that a keyword names, or the usual ones.
func (p *parser) paths(keyword string, byDefault ...string) []Setting {
	s, ok := p.seen[keyword]
	var all []Setting
	if !ok {
		for _, path := range byDefault {
			all = append(all, Setting{Value: path})
		}
		return all
	}
	for _, path := range strings.Fields(s.Value) {
		if strings.EqualFold(path, "none") {
			continue
		}
		all = append(all, Setting{p.path(path), s.File, s.Line})
	}
	return all
}

// path expands "~", tokens and variables; a relative path belongs to the home
// folder (OpenSSH takes it from the working folder, which nobody means).
func (p *parser) path(text string) string {
	if text == "" {
		return ""
	}
	path := p.home(p.variables(p.tokens(text)))
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.Home, path)
	}
	return path
}

func (p *parser) home(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(p.Home, rest)
	}
	return path
}

// tokens expands what ssh_config(5) lists under TOKENS, as far as it is known.
func (p *parser) tokens(text string) string {
	if !strings.Contains(text, "%") {
		return text
	}
	host := strings.NewReplacer("%%", "%", "%h", p.host.Alias).Replace(p.setting("hostname", p.host.Alias).Value)
	local, _ := os.Hostname()
	return strings.NewReplacer("%%", "%", "%d", p.Home, "%h", host, "%n", p.host.Alias, "%p", p.setting("port", "22").Value,
		"%r", p.setting("user", p.User).Value, "%u", p.User, "%l", local, "%i", strconv.Itoa(os.Getuid())).Replace(text)
}

func (p *parser) lookup(name string) (string, bool) {
	if p.Lookup == nil {
		return "", false
	}
	return p.Lookup(name)
}

// variables expands ${NAME}; one that is not set stays, and no such file is found.
func (p *parser) variables(text string) string {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "${")
		b.WriteString(before)
		name, after, closed := strings.Cut(rest, "}")
		if !ok || !closed {
			if ok {
				b.WriteString("${" + rest)
			}
			return b.String()
		}
		if value, set := p.lookup(name); set {
			b.WriteString(value)
		} else {
			b.WriteString("${" + name + "}")
		}
		text = after
	}
}

// split takes a line apart: a keyword in small letters, and its arguments, which
// may stand in double quotes. A comment ends it.
func split(line string) (keyword string, args []string, err error) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return "", nil, nil
	}
	end := strings.IndexAny(line, " \t=")
	if end < 0 {
		return strings.ToLower(line), nil, fmt.Errorf("%s has no value", clean.Quoted(line))
	}
	keyword = strings.ToLower(line[:end])
	rest := strings.TrimLeft(line[end:], " \t")
	rest = strings.TrimPrefix(rest, "=")
	for rest = strings.TrimLeft(rest, " \t"); rest != "" && rest[0] != '#'; rest = strings.TrimLeft(rest, " \t") {
		word, after, err := word(rest)
		if err != nil {
			return keyword, nil, err
		}
		args, rest = append(args, word), after
	}
	if len(args) == 0 {
		return keyword, nil, fmt.Errorf("%s has no value", clean.Quoted(keyword))
	}
	return keyword, args, nil
}

// word is the first argument of a text.
func word(text string) (word, rest string, err error) {
	var b strings.Builder
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted = !quoted
		case c == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
			b.WriteByte(text[i])
		case !quoted && (c == ' ' || c == '\t'):
			return b.String(), text[i:], nil
		default:
			b.WriteByte(c)
		}
	}
	if quoted {
		return "", "", errors.New("a quote is not closed")
	}
	return b.String(), "", nil
}

// duration reads a time as OpenSSH writes it: seconds, or numbers with s, m, h, d
// or w (sshd_config(5), TIME FORMATS).
func duration(text string) (time.Duration, bool) {
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}
	var total time.Duration
	n, digits := 0, 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c >= '0' && c <= '9' {
			n, digits = n*10+int(c-'0'), digits+1
			if digits > 8 {
				return 0, false
			}
			continue
		}
		unit, ok := units[c|0x20]
		if !ok || digits == 0 {
			return 0, false
		}
		total, n, digits = total+time.Duration(n)*unit, 0, 0
	}
	return total + time.Duration(n)*time.Second, text != ""
}
