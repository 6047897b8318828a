package sshconfig

import (
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// finish turns what was gathered into the host.
func (p *parser) finish() (*Host, error) {
	for keyword, why := range refused {
		if at, ok := p.seen[keyword]; ok && !strings.EqualFold(at.Value, "none") {
			return nil, &Refusal{at, why}
		}
	}
	h := p.host
	h.HostName, h.Port, h.User = p.setting("hostname", h.Alias), p.setting("port", "22"), p.setting("user", p.User)
	if hasOtherTokens(h.HostName.Value) {
		return nil, &Refusal{h.HostName, "HostName: %h and %% are the tokens that it can have"}
	}
	h.HostName.Value = p.hostName()
	port, ok := portNumber(h.Port.Value)
	if !ok {
		return nil, &Refusal{h.Port, "Port: expected a number from 1 to 65535"}
	}
	h.Port.Value = strconv.Itoa(port)
	if !plainName(h.HostName.Value) {
		return nil, &Refusal{h.HostName, "HostName: expected a host name or an address"}
	}
	h.HostKeyAlias = p.setting("hostkeyalias", "")
	if jump := p.setting("proxyjump", ""); jump.Value != "" && !strings.EqualFold(jump.Value, "none") {
		h.JumpAt = jump
		for one := range strings.SplitSeq(jump.Value, ",") {
			j, ok := ParseJump(p.tokens(strings.TrimSpace(one)))
			if !ok {
				return nil, &Refusal{jump, "ProxyJump: expected [USER@]HOST[:PORT], with commas between several"}
			}
			h.Jump = append(h.Jump, j)
		}
	}
	if err := p.refuseCanonical(); err != nil {
		return nil, err
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
	h.UserKnownHosts = p.paths("userknownhostsfile", filepath.Join(p.Home, ".ssh", "known_hosts"),
		filepath.Join(p.Home, ".ssh", "known_hosts2"))
	h.GlobalKnownHosts = p.paths("globalknownhostsfile", filepath.Join(p.System, "ssh_known_hosts"),
		filepath.Join(p.System, "ssh_known_hosts2"))
	h.IdentityAgent = p.setting("identityagent", "")
	if name, ok := strings.CutPrefix(h.IdentityAgent.Value, "$"); ok && !strings.HasPrefix(name, "{") ||
		h.IdentityAgent.Value == "SSH_AUTH_SOCK" {
		if !ok {
			name = h.IdentityAgent.Value
		}
		h.IdentityAgent.Value, _ = p.lookup(name)
	} else if !strings.EqualFold(h.IdentityAgent.Value, "none") {
		h.IdentityAgent.Value = p.path(h.IdentityAgent.Value)
	}
	return h, p.switches()
}

// hasOtherTokens reports whether a host's name has tokens that it can't have.
func hasOtherTokens(name string) bool {
	return strings.Contains(strings.NewReplacer("%%", "", "%h", "").Replace(name), "%")
}

// plainName reports whether a text can be a host's name or address: OpenSSH takes no signs that mean something to a
// shell.
func plainName(name string) bool {
	return name != "" && name[0] != '-' && !strings.ContainsAny(name, "'`\"$\\;&<>|(){}, \t\r\n/@")
}

// portNumber reads a port, or the name of a service.
func portNumber(text string) (int, bool) {
	n, err := strconv.Atoi(text)
	if err != nil && strings.Trim(text, "0123456789") != "" {
		n, err = net.LookupPort("tcp", text)
	}
	return n, err == nil && n >= 1 && n <= 65535
}

// Jump is one host of a ProxyJump. Port is 0 where none is named.
type Jump struct {
	User, Host string
	Port       int
}

// ParseJump reads [user@]host[:port], or the same as a URL of the scheme ssh, without a path.
func ParseJump(text string) (j Jump, ok bool) {
	rest, isURL := strings.CutPrefix(text, "ssh://")
	if isURL {
		rest = strings.TrimSuffix(rest, "/")
	}
	if i := strings.LastIndexByte(rest, '@'); i >= 0 {
		j.User, rest = rest[:i], rest[i+1:]
		if j.User == "" || strings.HasPrefix(j.User, "-") {
			return j, false
		}
	}
	port := ""
	if inside, ok := strings.CutPrefix(rest, "["); ok {
		host, after, closed := strings.Cut(inside, "]")
		if !closed || after != "" && after[0] != ':' {
			return j, false
		}
		j.Host, port = host, strings.TrimPrefix(after, ":")
	} else {
		j.Host, port, _ = strings.Cut(rest, ":")
	}
	if port != "" {
		if j.Port, ok = portNumber(port); !ok {
			return j, false
		}
	}
	return j, plainName(j.Host)
}

// refuseCanonical refuses a host whose name OpenSSH would put into its full form, where that could lead another way.
func (p *parser) refuseCanonical() error {
	s := p.setting("canonicalizehostname", "no")
	always := strings.EqualFold(s.Value, "always")
	if !always && !slices.Contains([]string{"yes", "true"}, strings.ToLower(s.Value)) || p.way == nil {
		return nil
	}
	if !always && len(p.host.Jump) > 0 { // then only the name by which one jumps is taken as it is
		return nil
	}
	return &Refusal{s, fmt.Sprintf("CanonicalizeHostname may lead to the %s of %s, and gharbor does not look names up "+
		"for it", p.way.Value, p.way)}
}

// switches reads what is on or off, and times.
func (p *parser) switches() error {
	h := p.host
	for keyword, into := range map[string]struct {
		set *bool
		on  bool
	}{
		"identitiesonly":               {&h.IdentitiesOnly, true},
		"pubkeyauthentication":         {&h.NoPublicKey, false},
		"passwordauthentication":       {&h.NoPassword, false},
		"kbdinteractiveauthentication": {&h.NoInteractive, false},
	} {
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
	for keyword, into := range map[string]*time.Duration{
		"connecttimeout":      &h.ConnectTimeout,
		"serveraliveinterval": &h.AliveInterval,
	} {
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
	for _, path := range s.words {
		if !strings.EqualFold(path, "none") {
			all = append(all, Setting{Value: p.path(path), File: s.File, Line: s.Line})
		}
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

// home expands "~", and "~NAME" for an account of this machine; another name stays, and no such file is found.
func (p *parser) home(path string) string {
	name, ok := strings.CutPrefix(path, "~")
	if !ok {
		return path
	}
	name, rest, _ := strings.Cut(name, "/")
	if name == "" {
		return filepath.Join(p.Home, rest)
	}
	if account, err := user.Lookup(name); err == nil && account.HomeDir != "" {
		return filepath.Join(account.HomeDir, rest)
	}
	return path
}

// hostName is what HostName says, in small letters, with its own tokens expanded; the alias where nothing is set.
func (p *parser) hostName() string {
	tokens := strings.NewReplacer("%%", "%", "%h", p.host.Alias)
	return strings.ToLower(tokens.Replace(p.setting("hostname", p.host.Alias).Value))
}

// tokens expands what ssh_config(5) lists under TOKENS, as far as it is known.
func (p *parser) tokens(text string) string {
	if !strings.Contains(text, "%") {
		return text
	}
	host := p.hostName()
	local, _ := os.Hostname()
	first, _, _ := strings.Cut(local, ".")
	port, name := p.setting("port", "22").Value, p.setting("user", p.User).Value
	sum := sha1.Sum([]byte(local + host + port + name))
	return strings.NewReplacer("%%", "%", "%d", p.Home, "%h", host, "%n", p.host.Alias, "%p", port,
		"%r", name, "%u", p.User, "%l", local, "%L", first, "%i", strconv.Itoa(os.Getuid()),
		"%k", p.setting("hostkeyalias", p.host.Alias).Value, "%C", hex.EncodeToString(sum[:])).Replace(text)
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
