// Package dns is a simulated name server for tests of aliases: it answers for given names with addresses and SRV
// records, and for all others that they do not exist. It listens on loopback only.
package dns

import (
	"encoding/binary"
	"net"
	"strings"
	"sync"

	"gentleharbor/core/defect"
)

// Record is one SRV record (RFC 2782).
type Record struct {
	Priority, Weight, Port uint16
	Target                 string
}

// Server is a running simulated name server.
type Server struct {
	Addresses map[string][]string // of names in small letters, without a dot at the end
	Services  map[string][]Record
	Silent    bool // it never answers

	conn  net.PacketConn
	mu    sync.Mutex
	asked []string
	done  chan struct{}
}

// The types of records that are answered (RFC 1035, 3596, 2782).
const (
	typeA    = 1
	typeAAAA = 28
	typeSRV  = 33
)

// Start listens on a free port of loopback, or at an address of it.
func (s *Server) Start(address string) error {
	conn, err := net.ListenPacket("udp", address)
	if err != nil {
		return err
	}
	s.conn, s.done = conn, make(chan struct{})
	defect.Go(s.serve)
	return nil
}

// Address is where it listens.
func (s *Server) Address() string { return s.conn.LocalAddr().String() }

// Questions lists the names that were asked for.
func (s *Server) Questions() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.asked...)
}

// Close ends it.
func (s *Server) Close() {
	s.conn.Close()
	<-s.done
}

func (s *Server) serve() {
	defer close(s.done)
	buffer := make([]byte, 512)
	for {
		n, from, err := s.conn.ReadFrom(buffer)
		if err != nil {
			return
		}
		if reply := s.reply(buffer[:n]); reply != nil && !s.Silent {
			s.conn.WriteTo(reply, from)
		}
	}
}

// reply answers a question (RFC 1035, section 4).
func (s *Server) reply(query []byte) []byte {
	if len(query) < 17 {
		return nil
	}
	name, end := nameAt(query, 12)
	if end == 0 || end+4 > len(query) {
		return nil
	}
	name = strings.ToLower(name)
	s.mu.Lock()
	s.asked = append(s.asked, name)
	s.mu.Unlock()
	var answers [][]byte
	switch binary.BigEndian.Uint16(query[end:]) {
	case typeSRV:
		for _, r := range s.Services[name] {
			data := binary.BigEndian.AppendUint16(nil, r.Priority)
			data = binary.BigEndian.AppendUint16(data, r.Weight)
			data = binary.BigEndian.AppendUint16(data, r.Port)
			answers = append(answers, record(typeSRV, append(data, packName(r.Target)...)))
		}
	case typeA:
		for _, text := range s.Addresses[name] {
			if ip := net.ParseIP(text).To4(); ip != nil {
				answers = append(answers, record(typeA, ip))
			}
		}
	case typeAAAA:
		for _, text := range s.Addresses[name] {
			if ip := net.ParseIP(text); ip.To4() == nil {
				answers = append(answers, record(typeAAAA, ip))
			}
		}
	}
	flags := uint16(0x8580) // an answer, by the authority
	if len(answers) == 0 && s.Addresses[name] == nil && s.Services[name] == nil {
		flags |= 3 // no such name
	}
	reply := append([]byte{}, query[:end+4]...)
	binary.BigEndian.PutUint16(reply[2:], flags)
	binary.BigEndian.PutUint16(reply[4:], 1)
	binary.BigEndian.PutUint16(reply[6:], uint16(len(answers)))
	binary.BigEndian.PutUint32(reply[8:], 0)
	for _, a := range answers {
		reply = append(reply, a...)
	}
	return reply
}

// record is an answer of a type, for the name that was asked for, kept for no time.
func record(kind uint16, data []byte) []byte {
	r := []byte{0xc0, 12}
	r = binary.BigEndian.AppendUint16(r, kind)
	r = append(r, 0, 1, 0, 0, 0, 0)
	r = binary.BigEndian.AppendUint16(r, uint16(len(data)))
	return append(r, data...)
}

// nameAt reads a name of plain labels; end is 0 for another form.
func nameAt(p []byte, at int) (name string, end int) {
	var labels []string
	for at < len(p) {
		size := int(p[at])
		at++
		switch {
		case size == 0:
			return strings.Join(labels, "."), at
		case size > 63 || at+size > len(p):
			return "", 0
		}
		labels = append(labels, string(p[at:at+size]))
		at += size
	}
	return "", 0
}

// packName writes a name.
func packName(name string) []byte {
	var p []byte
	for label := range strings.SplitSeq(strings.TrimSuffix(name, "."), ".") {
		if label != "" {
			p = append(append(p, byte(len(label))), label...)
		}
	}
	return append(p, 0)
}
