package sshconfig

import (
	"os"
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
	return strings.NewReplacer("%%", "%", "%d", p.Home, "%h", host, "%n", p.host.Alias, "%p",
		p.setting("port", "22").Value,
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
