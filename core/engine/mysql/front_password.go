package mysql

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"io"
	"net"

	"gentleharbor/core/engine"
)

// prove checks what a program computed from its password and the greeting's salt. It asks a program that used neither
// of the two methods here to use the older one.
func (p *programRequest) prove(conn net.Conn, password string) error {
	if len(p.answer) == 0 { // it has no password
		return engine.ErrNotProved
	}
	switch {
	case p.method == methodNative || p.method == "":
		return compareAnswer(p.answer, scrambledNative(password, p.salt))
	case p.method == methodCaching:
		if err := compareAnswer(p.answer, scrambledCaching(password, p.salt)); err != nil {
			return err
		}
		return p.send(conn, []byte{1, cachingFast})
	}
	change := append([]byte{0xfe}, methodNative+"\x00"...)
	if err := p.send(conn, append(append(change, p.salt[:20]...), 0)); err != nil {
		return err
	}
	packet, err := readPacket(conn)
	if err != nil {
		return err
	}
	p.sequence = packet[3] + 1
	return compareAnswer(packet[4:], scrambledNative(password, p.salt))
}

// cachingFast says that the password was right, and the login goes on (MySQL documentation, "Caching_sha2_password
// information").
const cachingFast = 3

// send writes the next packet of the login.
func (p *programRequest) send(conn io.Writer, body []byte) error {
	_, err := conn.Write(frame(p.sequence, body))
	p.sequence++
	return err
}

func compareAnswer(answer, want []byte) error {
	if subtle.ConstantTimeCompare(answer, want) != 1 {
		return engine.ErrNotProved
	}
	return nil
}

// scrambledNative is what mysql_native_password computes from a password (MySQL documentation, "Native
// Authentication").
func scrambledNative(password string, salt []byte) []byte {
	once := sha1.Sum([]byte(password))
	twice := sha1.Sum(once[:])
	mask := sha1.Sum(append(salt[:20:20], twice[:]...))
	subtle.XORBytes(mask[:], mask[:], once[:])
	return mask[:]
}

// scrambledCaching is what caching_sha2_password computes from a password (MySQL documentation,
// "Caching_sha2_password information").
func scrambledCaching(password string, salt []byte) []byte {
	once := sha256.Sum256([]byte(password))
	twice := sha256.Sum256(once[:])
	mask := sha256.Sum256(append(twice[:], salt[:20]...))
	subtle.XORBytes(mask[:], mask[:], once[:])
	return mask[:]
}
