// Package hop goes through SSH jump hosts and proxies: it finds out what a profile's hops mean, connects to each
// through the one before, checks its host key, logs in, and opens connections from the last one. It opens no local
// port, asks a person only through the secret finder, and reports failures in findings. On the way profile → resolve
// → route → check it is the part of the route between here and the server.
package hop

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route/hostkey"
	"gentleharbor/core/route/sshconfig"
)

// Hop is one jump host or proxy with all that is needed to reach it.
type Hop struct {
	Stage  string      // "hop 1": its number on the way
	Of     resolve.Hop // the hop of the profile that it comes from
	Word   string      // as written: "keeper@gate.saltmarsh.example:22", "ssh:gate"
	Origin string      // where it is from: "profiles.toml:9", "HostName, ~/.ssh/config:3"
	From   string      // the file and line whose ProxyJump asks for it, "" for a hop of the profile

	Host  string
	Port  int
	User  string
	Proxy string // "socks5" or "http"; "" for SSH

	behind       bool         // another hop is before it
	home         string       // the user's, which is shown as "~"
	greetings    greeting.Set // of what may answer in its place
	keys         []keyFile
	certificates []string // besides the usual KEY-cert.pub
	noKeys       bool
	noPassword   bool
	noQuestion   bool
	only         bool   // of the agent's keys, only those of the key files
	agent        string // path of its socket, "" for none
	keyName      string // the server's name in known-hosts files
	known        []string
	pin          hostkey.Pin
	older        []string
	timeout      time.Duration // of the connection, 0 for what the test has
	alive        time.Duration // between two keep-alives, 0 for the default
}

// Address is the hop's host and port.
func (h *Hop) Address() string { return net.JoinHostPort(h.Host, strconv.Itoa(h.Port)) }

// String is the hop for people: the account and the address.
func (h *Hop) String() string {
	if h.Proxy != "" {
		return h.Proxy + " proxy " + h.Address()
	}
	text := h.Host
	if h.Port != 22 {
		text = h.Address()
	}
	return h.User + "@" + text
}

// shortPath puts "~" for the user's home folder.
func (h *Hop) shortPath(text string) string {
	if h.home == "" {
		return text
	}
	return strings.ReplaceAll(text, h.home+"/", "~/")
}

// derived reports whether a ProxyJump names the hop, and no profile.
func (h *Hop) derived() bool { return h.From != "" }

// set is the command that changes a key of the hop, or a hint at the file that has it.
func (h *Hop) set(k key.Name, value string) string {
	if h.derived() {
		return fmt.Sprintf("${EDITOR:-vi} %s   # the host that is named there",
			clean.Shell(strings.Split(h.From, ":")[0]))
	}
	return fmt.Sprintf("gharbor set %s %s=%s", h.Of.Owner(), h.Of.Key(k), value)
}

// Places are the parts of the machine that hops use.
type Places struct {
	Home   string                           // the user's home folder
	System string                           // the folder of the system's SSH configuration, "" for the usual one
	Known  string                           // the tool's own known-hosts file
	Lookup func(name string) (string, bool) // environment variables
}

func (p Places) lookup(name string) string {
	if p.Lookup == nil {
		return ""
	}
	value, _ := p.Lookup(name)
	return value
}

func (p Places) user() string {
	for _, name := range []string{"USER", "LOGNAME", "USERNAME"} {
		if user := p.lookup(name); user != "" {
			return user
		}
	}
	if account, err := user.Current(); err == nil { // as in a container, whose environment says little
		return account.Username
	}
	return ""
}

// Plan finds out what a profile's hops are. It reads the user's SSH client configuration where a hop names a host of
// it, and connects to nothing. notes name the options of that configuration that gharbor does not follow.
func (p Places) Plan(r *resolve.Profile) (hops []*Hop, notes []string, found *finding.Finding) {
	for _, e := range r.Hops() {
		var more []*Hop
		if alias := e.Text(key.SSH); alias != "" {
			var said []string
			asked := sshconfig.Jump{Host: alias, User: e.Text(key.User), Port: e.Port()}
			if more, said, found = p.configuredHops(e, asked, true, nil); found != nil {
				return nil, nil, found
			}
			notes = append(notes, said...)
		} else {
			one, found := p.plain(e)
			if found != nil {
				return nil, nil, found
			}
			more = []*Hop{one}
		}
		hops = append(hops, more...)
	}
	if len(hops) > profile.MaxHops {
		return nil, nil, finding.New(finding.HopConfig, "the profile has %d hops; at most %d are possible", len(hops),
			profile.MaxHops).Suggest("gharbor show %s", r.Called)
	}
	for i, h := range hops {
		h.Stage, h.home, h.behind = fmt.Sprintf("hop %d", i+1), p.Home, i > 0
		h.greetings = r.Schema().Engines().Greetings()
	}
	return hops, notes, nil
}

// plain is a hop that the profile itself describes.
func (p Places) plain(e resolve.Hop) (*Hop, *finding.Finding) {
	h := &Hop{
		Of:     e,
		Word:   e.Word(),
		User:   e.Text(key.User),
		Origin: fmt.Sprintf("%s:%d", filepath.Base(e.File()), e.Line()),
	}
	if proxy := e.Text(key.Proxy); proxy != "" {
		u, err := url.Parse(proxy)
		if err != nil {
			return nil, finding.New(finding.HopConfig, "the proxy's URL can't be read").Suggest("gharbor show %s", e.Profile())
		}
		h.Proxy, h.Host = u.Scheme, u.Hostname()
		h.Port, _ = strconv.Atoi(u.Port())
		return h, nil
	}
	h.Host = e.Text(key.Host)
	h.Port = e.Port()
	h.known = []string{filepath.Join(p.Home, ".ssh", "known_hosts"), filepath.Join(p.Home, ".ssh", "known_hosts2"),
		filepath.Join(p.system(), "ssh_known_hosts")}
	h.keyName = hostkey.Name(h.Address())
	return h, p.applyProfile(h)
}

func (p Places) system() string {
	if p.System == "" {
		return sshconfig.SystemFolder(p.Lookup)
	}
	return p.System
}

// applyProfile applies a profile's keys to a hop; they win over a configuration's.
func (p Places) applyProfile(h *Hop) *finding.Finding {
	e := h.Of
	h.known = append(h.known, p.Known)
	if pin, ok := e.Get(key.HostKey); ok {
		h.pin = hostkey.Pin{Text: pin.Value.Text(), At: "host-key of the profile (" + pin.Origin.String() + ")"}
	}
	if older, ok := e.Get(key.Algorithms); ok {
		h.older = older.Value.List()
	}
	if h.User == "" {
		return finding.New(finding.HopConfig,
			"no user for %s: neither the profile nor the environment names one",
			clean.Quote(h.Host)).
			Advise("name the user: %s", h.set("user", "NAME"))
	}
	if key, ok := e.Get(key.Key); ok {
		h.keys = []keyFile{{path: key.Value.Text(), named: true, at: key.Origin.String()}}
	}
	if e.Text(key.Agent) == "false" {
		h.agent = "none"
	}
	h.setDefaults(p)
	return nil
}

// setDefaults fills in defaults: the usual key files, and the running agent.
func (h *Hop) setDefaults(p Places) {
	if h.keys == nil {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			path := filepath.Join(p.Home, ".ssh", name)
			if _, err := os.Stat(path); err == nil {
				h.keys = append(h.keys, keyFile{path: path})
			}
		}
	}
	switch h.agent {
	case "":
		h.agent = p.lookup("SSH_AUTH_SOCK")
	case "none":
		h.agent = ""
	}
}

// configuredHops are a host of the SSH client configuration and the hosts before it that its ProxyJump names. path
// has the lines that led here.
func (p Places) configuredHops(e resolve.Hop, j sshconfig.Jump, jumps bool,
	path []string) (hops []*Hop, notes []string, found *finding.Finding) {
	if len(path) > profile.MaxHops {
		return nil, nil, finding.New(finding.HopConfig, "ProxyJump leads back to itself").
			Saw("the last step is in %s", path[len(path)-1]).Suggest("gharbor show %s", e.Profile())
	}
	name := j.Host
	asked := sshconfig.Request{Alias: name, User: j.User}
	if j.Port != 0 {
		asked.Port = strconv.Itoa(j.Port)
	}
	c, err := sshconfig.Reader{Home: p.Home, User: p.user(), System: p.System, Lookup: p.Lookup}.Read(asked)
	if err != nil {
		return nil, nil, configFinding(e, name, err)
	}
	for _, note := range c.NotHonoured {
		notes = append(notes, clean.Line(note, 0))
	}
	for i, one := range c.Jump {
		if !jumps {
			break
		}
		before, said, found := p.configuredHops(e, one, i == 0, append(path[:len(path):len(path)], c.JumpAt.String()))
		if found != nil {
			return nil, nil, found
		}
		hops, notes = append(hops, before...), append(notes, said...)
	}
	h := hopFromConfig(c)
	h.Of, h.Word = e, e.Word()
	if len(path) > 0 {
		h.From, h.Word = path[len(path)-1], "ssh:"+name
		h.Origin = "ProxyJump, " + h.From
	}
	h.keyName = hostkey.Name(h.Address())
	if c.HostKeyAlias.Value != "" {
		h.keyName = strings.ToLower(c.HostKeyAlias.Value)
	}
	if h.derived() { // nothing that the profile says of its own hop is meant for it
		h.known = append(h.known, p.Known)
		h.setDefaults(p)
		return append(hops, h), notes, nil
	}
	return append(hops, h), notes, p.applyProfile(h)
}

// hopFromConfig is a hop as an SSH client configuration describes it.
func hopFromConfig(c *sshconfig.Host) *Hop {
	h := &Hop{
		Origin:     "the name itself",
		Host:       c.HostName.Value,
		User:       c.User.Value,
		noKeys:     c.NoPublicKey,
		noPassword: c.NoPassword,
		noQuestion: c.NoInteractive,
		only:       c.IdentitiesOnly,
		agent:      c.IdentityAgent.Value,
		timeout:    c.ConnectTimeout,
		alive:      c.AliveInterval,
	}
	if c.HostName.Line > 0 {
		h.Origin = "HostName, " + c.HostName.String()
	}
	h.Port, _ = strconv.Atoi(c.Port.Value)
	for _, s := range append(c.UserKnownHosts, c.GlobalKnownHosts...) {
		h.known = append(h.known, s.Value)
	}
	for _, s := range c.IdentityFiles {
		h.keys = append(h.keys, keyFile{path: s.Value, at: s.String()})
	}
	for _, s := range c.CertificateFiles {
		h.certificates = append(h.certificates, s.Value)
	}
	return h
}

// configFinding is for a configuration that has a mistake.
func configFinding(e resolve.Hop, name string, err error) *finding.Finding {
	var refusal *sshconfig.Refusal
	if !errors.As(err, &refusal) {
		return finding.New(finding.HopConfig, "the SSH client configuration cannot be read").
			Saw("%s", clean.Line(err.Error(), 0)).Suggest("ls -l ~/.ssh/config")
	}
	found := finding.New(finding.HopConfig, "gharbor can't follow what the SSH client configuration says about %s",
		clean.Quote(name)).Saw("%s", clean.Line(refusal.Error(), 0))
	if refusal.At.Line > 0 {
		found.Suggest("${EDITOR:-vi} +%d %s", refusal.At.Line, clean.Shell(refusal.At.File))
	} else {
		found.Suggest("ls -l %s", clean.Shell(refusal.At.File))
	}
	return found.Advise("or say in the profile where the hop is: gharbor set %s %s= %s=HOST", e.Owner(),
		e.Key(key.SSH), e.Key(key.Host))
}
