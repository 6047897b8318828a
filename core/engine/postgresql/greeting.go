package postgresql

import (
	"encoding/binary"

	"gentleharbor/core/engine/greeting"
)

// sslRequest asks a PostgreSQL server whether it speaks TLS.
func sslRequest() []byte { return []byte{0, 0, 0, 8, 4, 210, 22, 47} }

// recognise names a server by its answer to sslRequest or to a startup message.
func recognise(p []byte) (greeting.Service, bool) {
	return greeting.Service{Engine: Word, What: "a PostgreSQL server"}, isPostgreSQL(p)
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
