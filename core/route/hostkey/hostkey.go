// Package hostkey judges the key that an SSH server shows: against known-hosts
// files (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT) and against a key or fingerprint
// that a profile pins. A contradiction anywhere beats agreement elsewhere. It
// connects to nothing.
//
// The matching is our own, on the library's reader of one line: the library's
// known-hosts package gives up a whole file for one bad line, takes an authority's
// line for a host's own key, and compares names by their letter case.
package hostkey

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/route/sshpattern"
)

// maxFile bounds a known-hosts file: some 100,000 hosts.
const maxFile = 16 << 20

// Line is one line of a known-hosts file that could be read.
type Line struct {
	File   string
	Number int // from 1
	Marker string
	Key    ssh.PublicKey

	patterns []string
}

// String is the line's place.
func (l Line) String() string { return fmt.Sprintf("%s:%d", l.File, l.Number) }

// Store is what known-hosts files say.
type Store struct {
	Lines   []Line
	Skipped []string // a line each for what could not be read
}

// Read reads files, in order. One that is not there says nothing; one that can't be
// read, and a line that is wrong, is skipped and said.
func Read(paths ...string) *Store {
	s := &Store{}
	for i, path := range paths {
		if path == "" || path == os.DevNull || slices.Contains(paths[:i], path) {
			continue
		}
		data, err := atomicfile.Read(path, maxFile)
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			s.Skipped = append(s.Skipped, fmt.Sprintf("%s cannot be read: %s", path, atomicfile.Plain(err)))
		default:
			s.parse(path, data)
		}
	}
	return s
}

func (s *Store) parse(path string, data []byte) {
	number := 0
	data = bytes.TrimPrefix(data, []byte("\ufeff")) // an editor's mark of the encoding, which is no part of a name
	for text := range bytes.Lines(data) {
		number++
		text = bytes.Trim(text, " \t\r\n")
		if len(text) == 0 || text[0] == '#' {
			continue
		}
		marker, patterns, key, _, _, err := ssh.ParseKnownHosts(text)
		if strings.EqualFold(marker, "revoked") { // in capitals it is meant too
			marker = "revoked"
		}
		if err != nil || !slices.Contains([]string{"", "cert-authority", "revoked"}, marker) {
			s.Skipped = append(s.Skipped, fmt.Sprintf("%s:%d is not a known-hosts line (ignored)", path, number))
			continue
		}
		s.Lines = append(s.Lines, Line{File: path, Number: number, Marker: marker, Key: key, patterns: patterns})
	}
}

// Name is a server as known-hosts files name it: the host in small letters, with
// its port where that is not 22.
func Name(hostPort string) string { return strings.ToLower(knownhosts.Normalize(hostPort)) }

// linesFor are the lines for a name with a marker.
func (s *Store) linesFor(name, marker string) []Line {
	var all []Line
	for _, l := range s.Lines {
		if l.Marker == marker && l.matches(name) {
			all = append(all, l)
		}
	}
	return all
}

// anyPort is of, and the lines for the host without its port, as OpenSSH looks for them too: a company's authority is
// mostly written so. A line without a marker counts for its own port alone.
func (s *Store) anyPort(name, marker string) []Line {
	all := s.linesFor(name, marker)
	if host := hostOf(name); host != name {
		all = append(all, s.linesFor(host, marker)...)
	}
	return all
}

// matches reports whether a line is for a name: a pattern fits, and none that is
// negated.
func (l Line) matches(name string) bool {
	if len(l.patterns) == 1 && strings.HasPrefix(l.patterns[0], "|") {
		return hashed(l.patterns[0], name)
	}
	return sshpattern.List(l.patterns, name)
}

// hashed compares a name with a hashed one: |1|SALT|HMAC-SHA1, in base64.
func hashed(pattern, name string) bool {
	parts := strings.Split(pattern, "|")
	if len(parts) != 4 || parts[1] != "1" {
		return false
	}
	salt, err := base64.StdEncoding.DecodeString(parts[2])
	want, err2 := base64.StdEncoding.DecodeString(parts[3])
	if err != nil || err2 != nil {
		return false
	}
	mac := hmac.New(sha1.New, salt)
	mac.Write([]byte(name))
	return hmac.Equal(mac.Sum(nil), want)
}

// Outcome is the result of a judgement.
type Outcome int

// The outcomes.
const (
	Unknown     Outcome = iota // nothing is known of this host
	Known                      // something agrees, and nothing contradicts
	Changed                    // something contradicts
	Revoked                    // a line says that the key is not to be trusted
	Certificate                // an authority's line is for the host, and the certificate does not hold
)

// Verdict is a judgement of one key.
type Verdict struct {
	Outcome Outcome
	By      string   // what agrees, or revokes: "~/.ssh/known_hosts:3"
	Against []string // what contradicts, with its fingerprint
	Lines   []Line   // the same, where it is a line of a file
	Reason  string   // of a certificate that does not hold
}

// Pin is a host key that a profile names: a fingerprint or a key line, and where.
type Pin struct{ Text, At string }

// Judge judges the key that the server of this name showed.
func (s *Store) Judge(name string, pin Pin, key ssh.PublicKey) Verdict {
	plain := Plain(key)
	certificate, isCertificate := key.(*ssh.Certificate)
	for _, l := range s.anyPort(name, "revoked") {
		if same(l.Key, plain) || isCertificate && same(l.Key, certificate.SignatureKey) {
			return Verdict{Outcome: Revoked, By: l.String()}
		}
	}
	v := s.judgePlain(name, plain)
	if pin.Text != "" {
		if !pin.fits(plain) {
			v.Outcome, v.Against = Changed, append(v.Against,
				fmt.Sprintf("%s names another key: %s", pin.At, clean.Line(pin.Text, 120)))
		} else if v.Outcome == Unknown {
			v.Outcome, v.By = Known, pin.At
		}
	}
	if isCertificate && v.Outcome == Unknown {
		return s.judgeCertificate(name, certificate)
	}
	return v
}

func (s *Store) judgePlain(name string, key ssh.PublicKey) Verdict {
	v := Verdict{Outcome: Unknown}
	lines := s.linesFor(name, "")
	agrees := make(map[string]bool) // by file
	for _, l := range lines {
		if same(l.Key, key) {
			agrees[l.File] = true
			if v.By == "" {
				v.Outcome, v.By = Known, l.String()
			}
		}
	}
	for _, l := range lines {
		// A key of the same kind that is another one contradicts, unless the same
		// file has both; one of another kind does so where nothing agrees.
		if !agrees[l.File] && l.Key.Type() == key.Type() || len(agrees) == 0 {
			v.Outcome = Changed
			v.Lines = append(v.Lines, l)
			v.Against = append(v.Against, fmt.Sprintf("%s has %s", l, Describe(l.Key)))
		}
	}
	return v
}

// judgeCertificate asks the authorities that are known for the host.
func (s *Store) judgeCertificate(name string, certificate *ssh.Certificate) Verdict {
	authorities := s.anyPort(name, "cert-authority")
	by := ""
	for _, l := range authorities {
		if same(l.Key, certificate.SignatureKey) {
			by = l.String()
		}
	}
	if by == "" {
		return Verdict{Outcome: Unknown}
	}
	checker := ssh.CertChecker{IsHostAuthority: func(ssh.PublicKey, string) bool { return true }}
	err := checker.CheckCert(hostOf(name), certificate)
	if len(certificate.ValidPrincipals) == 0 {
		err = errors.New("it names no host, so it would be valid for every host")
	}
	if certificate.CertType != ssh.HostCert {
		err = errors.New("it is a user's certificate, not a host's")
	}
	if err != nil {
		return Verdict{Outcome: Certificate, By: by, Reason: clean.Line(strings.TrimPrefix(err.Error(), "ssh: "), 200)}
	}
	return Verdict{Outcome: Known, By: by + " (@cert-authority)"}
}

// hostOf takes the port off a name.
func hostOf(name string) string {
	if host, _, ok := strings.Cut(strings.TrimPrefix(name, "["), "]:"); ok {
		return host
	}
	return name
}

func same(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }

// fits reports whether a key is the pinned one.
func (p Pin) fits(key ssh.PublicKey) bool {
	if strings.HasPrefix(p.Text, "SHA256:") {
		return strings.TrimRight(p.Text, "=") == ssh.FingerprintSHA256(key)
	}
	pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(p.Text))
	return err == nil && same(pinned, key)
}

// Describe returns a key as a person compares it: its kind and fingerprint.
func Describe(key ssh.PublicKey) string {
	return Kind(key) + " " + Fingerprint(key)
}

// Fingerprint is that of a key; of a certificate, that of the key that it is for, which is what a server's keeper reads
// out.
func Fingerprint(key ssh.PublicKey) string { return ssh.FingerprintSHA256(Plain(key)) }

// Plain is the key that a certificate is for, or the key itself.
func Plain(key ssh.PublicKey) ssh.PublicKey {
	if certificate, ok := key.(*ssh.Certificate); ok {
		return certificate.Key
	}
	return key
}

// Kind is a key's type in one word.
func Kind(key ssh.PublicKey) string {
	if certificate, ok := key.(*ssh.Certificate); ok {
		return Kind(certificate.Key) + " (certified)"
	}
	switch t := key.Type(); t {
	case ssh.KeyAlgoRSA:
		return "RSA"
	case ssh.KeyAlgoED25519:
		return "ED25519"
	case ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521:
		return "ECDSA"
	default:
		return clean.Line(t, 40)
	}
}

// Algorithms puts the host-key algorithms of all that are allowed in the order in
// which they are asked for: certificates where an authority is known for the host,
// then the kinds of the keys that are known for it, then the others. A server that
// has several keys would else show one that nobody knows.
func (s *Store) Algorithms(name string, pin Pin, all []string) []string {
	kinds := make(map[string]bool)
	for _, l := range s.linesFor(name, "") {
		kinds[l.Key.Type()] = true
	}
	if pinned, _, _, _, err := ssh.ParseAuthorizedKey([]byte(pin.Text)); err == nil {
		kinds[pinned.Type()] = true
	}
	certified := len(s.anyPort(name, "cert-authority")) > 0
	var first, known, rest []string
	for _, algorithm := range all {
		switch {
		case strings.Contains(algorithm, "-cert-"):
			if certified {
				first = append(first, algorithm)
			}
		case kinds[algorithm] || kinds[ssh.KeyAlgoRSA] && strings.HasPrefix(algorithm, "rsa-sha2-"):
			known = append(known, algorithm)
		default:
			rest = append(rest, algorithm)
		}
	}
	return slices.Concat(first, known, rest)
}

// Append adds a line to a known-hosts file of the tool's own, under its lock.
func Append(ctx context.Context, path, line string) error {
	target, err := atomicfile.Resolve(path)
	if err != nil {
		return err
	}
	unlock, err := atomicfile.Lock(ctx, target)
	if err != nil {
		return err
	}
	defer unlock()
	data, err := atomicfile.Read(target, maxFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(data) > 0 && data[len(data)-1] != '\n' {
		data = append(data, '\n')
	}
	return atomicfile.Writer{}.Write(target, append(data, line+"\n"...))
}

// Entry is the line by which a known-hosts file takes in a key.
func Entry(name string, key ssh.PublicKey) string {
	return name + " " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(Plain(key))))
}
