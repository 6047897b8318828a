// Package greeting recognises what answers on a port by its first bytes: a database server, an SSH
// server, an HTTP server, something behind TLS. It is what the stage speak asks when the expected engine
// does not answer, and what `nearby` asks of every port that listens. How the servers of one engine are
// recognised is a Greeting in that engine's folder; a Set has those of all engines of the program.
package greeting

import (
	"bytes"
	"context"
	"encoding/binary"
	"net"

	"gentleharbor/core/clean"
)

// Service is what was recognised.
type Service struct {
	Engine  string // an engine's word, or "" for what is no database server
	Version string // where the greeting tells it
	What    string // for a sentence: "a database server (version 10.11.6)"
	TLS     bool   // it speaks only TLS
}

// Greeting is how the servers of an engine are recognised. It is not changed once it is in a Set.
type Greeting struct {
	Engine   string        // the engine's word
	Protocol string        // for a sentence about what was tried: "SSH's"
	Opening  func() []byte // what a client says first; nil where the server speaks first
	Unusual  bool          // the opening is sent only where such a server is likely, or nothing else answered

	// Recognise names the service that sent p as its first bytes, be it by itself or in answer to the
	// opening. It is nil where another engine's greeting covers the servers of this one.
	Recognise func(p []byte) (Service, bool)
	Weak      bool // a few bytes are enough for it, so the others are asked first
}

// probe makes a server speak that waits for the opening.
func (g *Greeting) probe(_ context.Context, c net.Conn) []byte {
	if g.Weak { // whatever it is may speak first
		return listenThenAsk(c, g.Opening())
	}
	return ask(c, g.Opening())
}

// Set are the greetings of several engines.
type Set []*Greeting

// Recognise names the service that sent p as its first bytes, be it by itself or in answer to one of
// the probes. ok is false for bytes that fit nothing.
func (set Set) Recognise(p []byte) (s Service, ok bool) {
	if len(p) == 0 {
		return Service{}, false
	}
	if s, ok := general(p); ok {
		return s, true
	}
	for _, weak := range []bool{false, true} {
		for _, g := range set {
			if g.Recognise == nil || g.Weak != weak {
				continue
			}
			if s, ok := g.Recognise(p); ok {
				return s, true
			}
		}
	}
	return Service{}, false
}

// ByEngine is the greeting of an engine, nil where the set has none.
func (set Set) ByEngine(engine string) *Greeting {
	for _, g := range set {
		if g.Engine == engine {
			return g
		}
	}
	return nil
}

// Opening is what a client of an engine says first, nil where the server speaks first
// or the engine is not known.
func (set Set) Opening(engine string) []byte {
	if g := set.ByEngine(engine); g != nil && g.Opening != nil {
		return g.Opening()
	}
	return nil
}

// Probes make servers speak, that of the likely engine first. Unusual ones follow only where all is
// true, or the likely engine's is one.
func (set Set) Probes(likely string, all bool) []Probe {
	var probes []Probe
	if g := set.ByEngine(likely); g != nil && g.Opening != nil {
		probes = append(probes, g.probe)
	}
	for _, g := range set.asking(likely) {
		if all || !g.Unusual {
			probes = append(probes, g.probe)
		}
	}
	return probes
}

// OtherProbes are the probes and the protocols of all engines but one, and of TLS.
func (set Set) OtherProbes(engine string) (probes []Probe, protocols []string) {
	for _, g := range set.asking(engine) {
		probes = append(probes, g.probe)
		protocols = append(protocols, g.Protocol)
	}
	return append(probes, TLS), append(protocols, "TLS's")
}

// asking are the greetings with an opening of all engines but one, the unusual ones last.
func (set Set) asking(but string) []*Greeting {
	var all []*Greeting
	for _, unusual := range []bool{false, true} {
		for _, g := range set {
			if g.Opening != nil && g.Engine != but && g.Unusual == unusual {
				all = append(all, g)
			}
		}
	}
	return all
}

// general recognises what is no engine's server.
func general(p []byte) (s Service, ok bool) {
	switch {
	case bytes.HasPrefix(p, []byte("SSH-")):
		return Service{What: "an SSH server (" + clean.Quote(firstLine(p)) + ")"}, true
	case bytes.HasPrefix(p, []byte("HTTP/")):
		return Service{What: "an HTTP server (" + clean.Quote(firstLine(p)) + ")"}, true
	case isHTML(p):
		return Service{What: "an HTTP server"}, true
	case bytes.HasPrefix(p, []byte("220 ")) || bytes.HasPrefix(p, []byte("220-")):
		return Service{What: "a mail or file transfer server (" + clean.Quote(firstLine(p)) + ")"}, true
	case isTLS(p):
		return Service{What: "a server that speaks only TLS on this port", TLS: true}, true
	}
	return Service{}, false
}

func firstLine(p []byte) string {
	line, _, _ := bytes.Cut(p[:min(len(p), 120)], []byte("\n"))
	return string(line)
}

func isHTML(p []byte) bool {
	head := bytes.ToLower(bytes.TrimLeft(p[:min(len(p), 64)], " \r\n\t"))
	return bytes.HasPrefix(head, []byte("<!doctype html")) || bytes.HasPrefix(head, []byte("<html"))
}

// isTLS accepts a TLS record (RFC 8446, section 5.1) that a server may open
// with: an alert, or a handshake message.
func isTLS(p []byte) bool {
	return len(p) >= 5 && (p[0] == 21 || p[0] == 22) && p[1] == 3 && p[2] <= 4 &&
		binary.BigEndian.Uint16(p[3:]) <= 1<<14+256
}
