// Package greeting recognises what answers on a port by its first bytes: a
// database server, an SSH server, an HTTP server, something behind TLS. It is
// what `speak` asks when the expected engine does not answer, and what
// `nearby` asks of every port that listens.
package greeting

import (
	"bytes"
	"encoding/binary"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/oracle/tns"
)

// Service is what was recognised.
type Service struct {
	Engine  string // an engine's word, or "" for what is no database server
	Version string // where the greeting tells it
	What    string // for a sentence: "a MariaDB server (version 10.11.6)"
	TLS     bool   // it speaks only TLS
}

// Recognise names the service that sent p as its first bytes, be it by itself
// or in answer to one of the probes. ok is false for bytes that fit nothing.
func Recognise(p []byte) (s Service, ok bool) {
	switch {
	case len(p) == 0:
		return Service{}, false
	case bytes.HasPrefix(p, []byte("SSH-")):
		return Service{What: "an SSH server (" + clean.Quoted(firstLine(p)) + ")"}, true
	case bytes.HasPrefix(p, []byte("HTTP/")):
		return Service{What: "an HTTP server (" + clean.Quoted(firstLine(p)) + ")"}, true
	case isHTML(p):
		return Service{What: "an HTTP server"}, true
	case isRedis(p):
		return Service{Engine: "redis", What: "a Redis server"}, true
	case bytes.HasPrefix(p, []byte("220 ")) || bytes.HasPrefix(p, []byte("220-")):
		return Service{What: "a mail or file transfer server (" + clean.Quoted(firstLine(p)) + ")"}, true
	case isTLS(p):
		return Service{What: "a server that speaks only TLS on this port", TLS: true}, true
	case bytes.HasPrefix(p, xNotice):
		return Service{What: "a MySQL server's X Protocol, on a port beside the one that is meant (3306 is the usual one)"},
			true
	case isMongo(p):
		return Service{Engine: "mongodb", What: "a MongoDB server"}, true
	}
	if s, ok := mysql(p); ok {
		return s, true
	}
	if s, ok := listener(p); ok {
		return s, true
	}
	if isPostgreSQL(p) {
		return Service{Engine: "postgresql", What: "a PostgreSQL server"}, true
	}
	return Service{}, false
}

// listener recognises a packet with which Oracle's listener answers.
func listener(p []byte) (Service, bool) {
	packet, err := tns.Read(bytes.NewReader(p))
	if err != nil {
		return Service{}, false
	}
	s := Service{Engine: "oracle", What: "a listener of Oracle's databases"}
	switch packet.Type {
	case tns.Refuse:
		refusal, err := tns.ParseRefuse(packet)
		if err != nil || !strings.Contains(refusal.Text, "(DESCRIPTION") {
			return Service{}, false
		}
		if s.Version = refusal.Listen; s.Version != "" {
			s.What += " (version " + s.Version + ")"
		}
		return s, true
	case tns.Accept:
		_, err := tns.ParseAccept(packet)
		return s, err == nil
	case tns.Redirect:
		_, _, err := tns.ParseRedirect(packet)
		return s, err == nil
	case tns.Resend:
		return s, len(packet.Raw) == 8
	}
	return Service{}, false
}

// xNotice is what a MySQL server says first on its X Protocol port, 33060 (MySQL
// documentation, "X Protocol: Notices"): a frame of length 5, type 11.
var xNotice = []byte("\x05\x00\x00\x00\x0b\x08\x05\x1a\x00")

func firstLine(p []byte) string {
	line, _, _ := bytes.Cut(p[:min(len(p), 120)], []byte("\n"))
	return string(line)
}

func isHTML(p []byte) bool {
	head := bytes.ToLower(bytes.TrimLeft(p[:min(len(p), 64)], " \r\n\t"))
	return bytes.HasPrefix(head, []byte("<!doctype html")) || bytes.HasPrefix(head, []byte("<html"))
}

// isRedis accepts the answers to PING (Redis documentation, "RESP protocol"):
// a status, an error, or the refusal of protected mode.
func isRedis(p []byte) bool {
	for _, word := range []string{"+PONG", "-NOAUTH", "-DENIED", "-ERR", "-LOADING", "-NOPERM", "-MISCONF",
		"-MASTERDOWN"} {
		if bytes.HasPrefix(p, []byte(word)) {
			return true
		}
	}
	return false
}

// isTLS accepts a TLS record (RFC 8446, section 5.1) that a server may open
// with: an alert, or a handshake message.
func isTLS(p []byte) bool {
	return len(p) >= 5 && (p[0] == 21 || p[0] == 22) && p[1] == 3 && p[2] <= 4 &&
		binary.BigEndian.Uint16(p[3:]) <= 1<<14+256
}

// mongoRequest is the id of the hello that MongoProbe sends.
const mongoRequest = 0x6768

// MongoProbe is OP_MSG {hello: 1, $db: "admin"} (MongoDB documentation, "Wire Protocol").
func MongoProbe() []byte {
	doc := []byte("\x00\x00\x00\x00\x10hello\x00\x01\x00\x00\x00\x02$db\x00\x06\x00\x00\x00admin\x00\x00")
	binary.LittleEndian.PutUint32(doc, uint32(len(doc)))
	message := make([]byte, 16, 64)
	binary.LittleEndian.PutUint32(message[4:], mongoRequest)
	binary.LittleEndian.PutUint32(message[12:], 2013)
	message = append(message, 0, 0, 0, 0, 0)
	message = append(message, doc...)
	binary.LittleEndian.PutUint32(message, uint32(len(message)))
	return message
}

// isMongo accepts a reply to MongoProbe: opcode OP_MSG or OP_REPLY and our id.
func isMongo(p []byte) bool {
	if len(p) < 16 {
		return false
	}
	opcode := binary.LittleEndian.Uint32(p[12:])
	return (opcode == 2013 || opcode == 1) && binary.LittleEndian.Uint32(p[8:]) == mongoRequest
}

// mysql accepts the packets that a MySQL or MariaDB server opens with
// (MariaDB documentation, "Connection Phase"): a handshake of version 10, or
// an error sent in its place.
func mysql(p []byte) (Service, bool) {
	if len(p) < 7 || p[3] != 0 {
		return Service{}, false
	}
	size := int(p[0]) | int(p[1])<<8 | int(p[2])<<16
	if size < 3 || size > 4096 { // greetings are about 100 bytes
		return Service{}, false
	}
	body := p[4:min(len(p), 4+size)]
	switch body[0] {
	case 10:
		version, _, ended := bytes.Cut(body[1:], []byte{0})
		if !ended || len(version) == 0 || version[0] < '0' || version[0] > '9' {
			return Service{}, false
		}
		text := string(version)
		if i := strings.Index(text, "-MariaDB"); i >= 0 {
			number := clean.Line(strings.TrimPrefix(text[:i], "5.5.5-"), 40) // put in front for old clients
			return Service{Engine: "mariadb", Version: number, What: "a MariaDB server (version " + number + ")"}, true
		}
		number := clean.Line(text, 40)
		return Service{Engine: "mysql", Version: number, What: "a MySQL server (version " + number + ")"}, true
	case 0xff:
		if len(body) < 4 {
			return Service{}, false
		}
		text := body[3:]
		if text[0] == '#' && len(text) > 6 {
			text = text[6:]
		}
		return Service{
			Engine: "mysql",
			What:   "a MySQL or MariaDB server (which says " + clean.Quoted(string(text)) + ")",
		}, true
	}
	return Service{}, false
}

// isPostgreSQL accepts what a server answers to SSLRequest or to a startup
// message (PostgreSQL documentation, "Message Formats").
func isPostgreSQL(p []byte) bool {
	if len(p) == 1 {
		return p[0] == 'S' || p[0] == 'N'
	}
	if len(p) < 9 {
		return false
	}
	size := binary.BigEndian.Uint32(p[1:])
	switch p[0] {
	case 'R':
		return size >= 8 && size <= 2000
	case 'v':
		return size >= 12 && size <= 2000
	case 'E':
		return size >= 8 && size <= 30000 && (p[5] == 'S' || p[5] == 'V' || p[5] == 'C' || p[5] == 'M')
	}
	return false
}

// SSLRequest asks a PostgreSQL server whether it speaks TLS.
func SSLRequest() []byte { return []byte{0, 0, 0, 8, 4, 210, 22, 47} }

// TextProbe makes a Redis server answer PING and an HTTP server complain.
func TextProbe() []byte { return []byte("PING\r\n\r\n") }
