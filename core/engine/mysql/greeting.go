package mysql

import (
	"bytes"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine/greeting"
)

// xNotice is what a MySQL server says first on its X Protocol port, 33060 (MySQL
// documentation, "X Protocol: Notices"): a frame of length 5, type 11.
var xNotice = []byte("\x05\x00\x00\x00\x0b\x08\x05\x1a\x00")

// recognise names the servers of this family by their first bytes.
func recognise(p []byte) (greeting.Service, bool) {
	if bytes.HasPrefix(p, xNotice) {
		return greeting.Service{
			What: "a MySQL server's X Protocol port (the right port is usually 3306)",
		}, true
	}
	return recogniseHandshake(p)
}

// recogniseHandshake accepts the first packets of a MySQL or MariaDB server (MariaDB documentation, "Connection
// Phase"): a handshake of version 10, or an error in its place.
func recogniseHandshake(p []byte) (greeting.Service, bool) {
	if len(p) < 7 || p[3] != 0 {
		return greeting.Service{}, false
	}
	size := int(p[0]) | int(p[1])<<8 | int(p[2])<<16
	if size < 3 || size > 4096 { // greetings are about 100 bytes
		return greeting.Service{}, false
	}
	body := p[4:min(len(p), 4+size)]
	switch body[0] {
	case 10:
		version, _, ended := bytes.Cut(body[1:], []byte{0})
		if !ended || len(version) == 0 || version[0] < '0' || version[0] > '9' {
			return greeting.Service{}, false
		}
		text := string(version)
		if i := strings.Index(text, "-MariaDB"); i >= 0 {
			number := clean.Line(strings.TrimPrefix(text[:i], "5.5.5-"), 40) // put in front for old clients
			return greeting.Service{Engine: "mariadb", Version: number, What: "a MariaDB server (version " + number + ")"}, true
		}
		number := clean.Line(text, 40)
		return greeting.Service{Engine: "mysql", Version: number, What: "a MySQL server (version " + number + ")"}, true
	case 0xff:
		if len(body) < 4 {
			return greeting.Service{}, false
		}
		text := body[3:]
		if text[0] == '#' && len(text) > 6 {
			text = text[6:]
		}
		return greeting.Service{
			Engine: "mysql",
			What:   "a MySQL or MariaDB server (which says " + clean.Quote(string(text)) + ")",
		}, true
	}
	return greeting.Service{}, false
}
