// Package sshconfig reads OpenSSH's client configuration (ssh_config(5)) for one
// host: what a profile's hop takes from it, where each value stands, and what can't
// be honoured. It runs no command and connects to nothing. It stands beside the
// profile, before the route is made.
//
// It is our own because it must say the file and line of each value, judge each
// Match by itself (one that can't be judged must not cost the hosts beside it), and
// look for files where the user's home is meant to be.
package sshconfig

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
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

	words []string // the value's, without quotes
}

// String is the place as a person writes it.
func (s Setting) String() string { return fmt.Sprintf("%s:%d", s.File, s.Line) }

// Host is what the configuration says for one host. Values are as written but for
// tokens, variables and "~", which are expanded.
type Host struct {
	Alias  string
	Listed bool // a Host or Match line other than one for all hosts names it

	HostName     Setting // the alias where nothing is set
	Port         Setting // "22" where nothing is set
	User         Setting // the local user where nothing is set
	HostKeyAlias Setting
	Jump         []Jump // ProxyJump, in order from here; nil for none
	JumpAt       Setting

	IdentityFiles    []Setting // nil where nothing is set: the usual ones
	CertificateFiles []Setting
	IdentitiesOnly   bool
	IdentityAgent    Setting // "none", or a socket's path; "" where nothing is set
	UserKnownHosts   []Setting
	GlobalKnownHosts []Setting
	ConnectTimeout   time.Duration
	AliveInterval    time.Duration
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
	System string                           // the folder of the system's configuration; "" for the usual one
	Lookup func(name string) (string, bool) // environment variables
}

// SystemFolder is where the system's configuration and known hosts are: /etc/ssh, or on Windows where OpenSSH has them.
func SystemFolder(lookup func(name string) (string, bool)) string {
	if runtime.GOOS == "windows" && lookup != nil {
		if data, ok := lookup("ProgramData"); ok && filepath.IsAbs(data) {
			return filepath.Join(data, "ssh")
		}
	}
	return "/etc/ssh"
}

// Request is the host that is asked for, as a person calls it, with the account and the port that were named with it:
// they go before what files say. "" is none.
type Request struct{ Alias, User, Port string }

// Read reads the user's configuration, then the system's, for a host. A file that is not there says nothing. The error
// is a *Refusal, or says which file can't be read.
func (r Reader) Read(a Request) (*Host, error) {
	if r.System == "" {
		r.System = SystemFolder(r.Lookup)
	}
	p := &parser{Reader: r, host: &Host{Alias: a.Alias}, seen: make(map[string]Setting)}
	for keyword, given := range map[string]string{"user": a.User, "port": a.Port} {
		if given != "" {
			p.seen[keyword] = Setting{Value: given, words: []string{given}}
		}
	}
	for _, place := range []struct{ path, folder string }{
		{filepath.Join(r.Home, ".ssh", "config"), filepath.Join(r.Home, ".ssh")},
		{filepath.Join(r.System, "ssh_config"), r.System},
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

	way *Setting // a line about the way that stands in a block for other hosts; nil for none
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
	if uid, ok := owner.UserID(info); ok && (uid != os.Getuid() && uid != 0 || info.Mode().Perm()&0o022 != 0) {
		return &Refusal{Setting{File: path},
			"others can change this file, so OpenSSH does not use it either; chmod go-w fixes it"}
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
			active = outer && sshpattern.Exact(args, p.host.Alias)
			p.host.Listed = p.host.Listed || active && !slices.Equal(args, []string{"*"})
		case "match":
			matched, doubt, err := p.matchesCriteria(args)
			if err != nil {
				return &Refusal{at, err.Error()}
			}
			active = outer && matched
			if outer && doubt != "" {
				if err := p.doubtful(at, doubt, folder, string(data), number); err != nil {
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
			} else if decidesWay(keyword) && p.way == nil {
				at.Value = keyword
				p.way = &at
			}
		}
	}
	return nil
}

// decidesWay reports whether a keyword says how a host is reached.
func decidesWay(keyword string) bool { return strings.HasPrefix(keyword, "proxy") }

// include reads the files that an Include line names, in lexical order.
func (p *parser) include(patterns []string, folder string, depth int, active bool) error {
	for _, one := range p.includedFiles(patterns, folder) {
		if err := p.file(one, folder, depth+1, active); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// includedFiles are the files that patterns name. A name that begins with a dot is found only by one that does, as
// glob(3) has it.
func (p *parser) includedFiles(patterns []string, folder string) (paths []string) {
	for _, pattern := range patterns {
		path := p.home(pattern)
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		found, _ := filepath.Glob(path)
		parts := strings.Split(path, "/")
		for _, one := range found {
			hidden := false
			for i, name := range strings.Split(one, "/") {
				hidden = hidden || strings.HasPrefix(name, ".") && i < len(parts) && !strings.HasPrefix(parts[i], ".")
			}
			if info, err := os.Stat(one); err == nil && !info.IsDir() && !hidden {
				paths = append(paths, one)
			}
		}
	}
	return paths
}

// doubtful is a Match that can't be judged. Where its block says something of how
// to get there, that can't be passed over in silence; a proxy that it may ask for
// can't be passed over at all.
func (p *parser) doubtful(at Setting, doubt, folder, data string, from int) error {
	var touched []string
	var look func(data string, from, depth int) (way string)
	look = func(data string, from, depth int) (way string) {
		number := 0
		for text := range strings.Lines(data) {
			if number++; number <= from {
				continue
			}
			keyword, args, _ := split(text)
			switch {
			case depth == 0 && (keyword == "host" || keyword == "match"):
				return ""
			case decidesWay(keyword):
				return keyword
			case keyword == "include" && depth < maxDepth:
				for _, path := range p.includedFiles(args, folder) { // in which every block hangs on this Match
					if more, err := atomicfile.Read(path, maxFile); err == nil {
						if way = look(string(more), 0, depth+1); way != "" {
							return way
						}
					}
				}
			case slices.Contains(used, keyword) && !slices.Contains(touched, keyword):
				touched = append(touched, keyword)
			}
		}
		return ""
	}
	if way := look(data, from, 0); way != "" {
		return &Refusal{at, fmt.Sprintf("Match %s there decides about %s, and gharbor can't evaluate it", doubt, way)}
	}
	if len(touched) > 0 {
		p.noteIgnored(at, "gharbor can't evaluate Match %s, so its %s is ignored", doubt, strings.Join(touched, ", "))
	}
	return nil
}

func (p *parser) noteIgnored(at Setting, what string, args ...any) {
	p.host.NotHonoured = append(p.host.NotHonoured, fmt.Sprintf("%s: ", at)+fmt.Sprintf(what, args...))
}

// used are the keywords that are honoured.
var used = []string{"hostname", "port", "user", "hostkeyalias", "proxyjump", "identityfile", "certificatefile",
	"identitiesonly", "identityagent",
	"userknownhostsfile", "globalknownhostsfile", "connecttimeout", "serveraliveinterval",
	"pubkeyauthentication", "passwordauthentication", "kbdinteractiveauthentication"}

// several are those of them that take more than one word; ProxyJump takes its line whole.
var several = []string{"userknownhostsfile", "globalknownhostsfile", "proxyjump"}

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
	"proxycommand":    "gharbor does not run ProxyCommand; use ProxyJump, or hops in the profile",
	"revokedhostkeys": "gharbor does not read RevokedHostKeys; write the keys into known_hosts with @revoked",
}

// take notes the first value of a keyword; some gather all.
func (p *parser) take(keyword string, args []string, at Setting) error {
	at.Value, at.words = strings.Join(args, " "), args
	if slices.Contains(used, keyword) && !slices.Contains(several, keyword) && len(args) > 1 {
		return &Refusal{at, fmt.Sprintf("%s takes one word, so OpenSSH refuses the file", keyword)}
	}
	switch keyword {
	case "identityfile", "certificatefile":
		if p.lists == nil {
			p.lists = make(map[string][]Setting)
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
	if jump, ok := p.seen["proxyjump"]; ok && keyword == "proxycommand" && !strings.EqualFold(jump.Value, "none") {
		return nil // whichever of the two stands first keeps the other out; a jump through nothing does not
	}
	if _, command := p.seen["proxycommand"]; command && keyword == "proxyjump" {
		return nil
	}
	p.seen[keyword] = at
	rule, noticed := passedOver[keyword]
	if noticed && !slices.Contains(strings.Fields(rule.unless), strings.ToLower(at.Value)) {
		p.noteIgnored(at, "%s is ignored: %s", canonical(keyword), rule.instead)
	}
	return nil
}

// canonical is a keyword in its usual letter case, for the few that messages name.
func canonical(keyword string) string {
	for _, word := range []string{"StrictHostKeyChecking", "NoHostAuthenticationForLocalhost", "KnownHostsCommand",
		"PKCS11Provider", "HostKeyAlgorithms", "KexAlgorithms",
		"Ciphers", "MACs", "PubkeyAcceptedAlgorithms", "PreferredAuthentications", "AddressFamily", "BindAddress",
		"BindInterface", "CanonicalizeHostname"} {
		if strings.EqualFold(word, keyword) {
			return word
		}
	}
	return keyword
}
