// Package tns has the packets that a client and a listener of Oracle's databases exchange before a login: the connect
// packet, and its answers. It reads and writes bytes, and dials nothing. The layout is that of the open-source driver
// (github.com/sijms/go-ora/v2, package network).
package tns

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// Type is the kind of a packet, its byte 4.
type Type byte

// The packets of the opening; Data carries everything after it.
const (
	Connect  Type = 1
	Accept   Type = 2
	Refuse   Type = 4
	Redirect Type = 5
	Data     Type = 6
	Resend   Type = 11
	Marker   Type = 12
)

// Sizes, in bytes.
const (
	headerSize  = 8
	connectHead = 70
	acceptHead  = 32
	inlineLimit = 230      // of connect data: more follows in a data packet
	maxOpening  = 64 << 10 // of a packet before the login: its length has 16 bits
	unit        = 8192     // the session data unit that is asked for
)

// The versions of the protocol that the connect packet offers: what the driver that
// does the login speaks.
const (
	version       = 317
	lowestVersion = 300
	// LongLengths is the version from which a packet's length has 32 bits, once the
	// connection was accepted.
	LongLengths = 315
)

// ErrNotTNS says that bytes are no packet of this protocol.
var ErrNotTNS = errors.New("not a packet of Oracle's listener")

// Packet is one packet of the opening.
type Packet struct {
	Type  Type
	Flags byte   // byte 5
	Raw   []byte // the whole packet, its header included
}

// Renegotiates reports whether the server wants a new TLS handshake before the
// connect packet is sent again.
func (p Packet) Renegotiates() bool { return p.Type == Resend && p.Flags&8 != 0 }

// Read reads one packet of the opening. After an error, the bytes that came are in the packet's Raw.
func Read(r io.Reader) (Packet, error) {
	raw := make([]byte, headerSize)
	if n, err := io.ReadFull(r, raw); err != nil {
		return Packet{Raw: raw[:n]}, err
	}
	length := int(binary.BigEndian.Uint16(raw))
	p := Packet{Type: Type(raw[4]), Flags: raw[5], Raw: raw}
	if length < headerSize || raw[2] != 0 || raw[3] != 0 || raw[6] != 0 || raw[7] != 0 || p.Type < Connect || p.Type > 19 {
		return p, ErrNotTNS
	}
	p.Raw = append(raw, make([]byte, length-headerSize)...)
	n, err := io.ReadFull(r, p.Raw[headerSize:])
	p.Raw = p.Raw[:headerSize+n]
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return p, err
}

// Target is what to ask a listener for: a service or an instance, or neither for the listener itself.
type Target struct {
	Host     string // as written, for the listener's log
	Port     int
	Service  string
	Instance string // its SID
	Secure   bool   // within TLS
	Program  string // what the server sees as the client's
}

// value is a text for a connect descriptor, without the descriptor's own signs.
func value(s string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(`()='"\`, r) || r < 0x20 || r >= 0x7f && r < 0xa0 {
			return -1
		}
		return r
	}, s)
}

// Descriptor is the text that asks a listener for the target.
func (t Target) Descriptor() string {
	if t.Service == "" && t.Instance == "" {
		return "(CONNECT_DATA=(COMMAND=ping))" // the listener answers for itself
	}
	protocol, wanted := "tcp", "(SERVICE_NAME="+value(t.Service)+")"
	if t.Secure {
		protocol = "tcps"
	}
	if t.Service == "" {
		wanted = "(SID=" + value(t.Instance) + ")"
	}
	return fmt.Sprintf("(DESCRIPTION=(ADDRESS=(PROTOCOL=%s)(HOST=%s)(PORT=%d))(CONNECT_DATA=%s"+
		"(CID=(PROGRAM=%s)(HOST=)(USER=))))",
		protocol, value(t.Host), t.Port, wanted, value(t.Program))
}

// ConnectPacket asks for a target.
func ConnectPacket(t Target) []byte {
	data := []byte(t.Descriptor())
	inline := data
	if len(data) > inlineLimit {
		inline = nil
	}
	p := make([]byte, connectHead, connectHead+len(data)+10)
	binary.BigEndian.PutUint16(p, uint16(connectHead+len(inline)))
	p[4] = byte(Connect)
	binary.BigEndian.PutUint16(p[8:], version)
	binary.BigEndian.PutUint16(p[10:], lowestVersion)
	binary.BigEndian.PutUint16(p[12:], 1|2048) // the options that the driver asks for
	binary.BigEndian.PutUint16(p[14:], unit)
	binary.BigEndian.PutUint16(p[16:], 0xffff)
	p[18], p[19] = 79, 152 // characteristics of the transport
	binary.BigEndian.PutUint16(p[22:], 1)
	binary.BigEndian.PutUint16(p[24:], uint16(len(data)))
	binary.BigEndian.PutUint16(p[26:], connectHead)
	p[32], p[33] = 1, 1
	binary.BigEndian.PutUint32(p[58:], unit)
	binary.BigEndian.PutUint32(p[62:], 0xffff)
	p = append(p, inline...)
	if inline != nil {
		return p
	}
	return append(p, DataPacket(data, 0, false)...)
}

// DataPacket makes a packet for what is sent after the opening. long is for lengths of 32 bits, as newer versions
// have them.
func DataPacket(body []byte, flags uint16, long bool) []byte {
	p := make([]byte, 10, 10+len(body))
	if long {
		binary.BigEndian.PutUint32(p, uint32(10+len(body)))
	} else {
		binary.BigEndian.PutUint16(p, uint16(10+len(body)))
	}
	p[4] = byte(Data)
	binary.BigEndian.PutUint16(p[8:], flags)
	return append(p, body...)
}

// AcceptPacket is an accept packet.
type AcceptPacket struct {
	Version uint16
	// Replay is the packet as a driver is shown it that did not see the opening.
	Replay []byte
}

// ParseAccept reads an accept packet.
func ParseAccept(p Packet) (AcceptPacket, error) {
	if p.Type != Accept || len(p.Raw) < acceptHead {
		return AcceptPacket{}, ErrNotTNS
	}
	a := AcceptPacket{Version: binary.BigEndian.Uint16(p.Raw[8:])}
	data, at := int(binary.BigEndian.Uint16(p.Raw[18:])), int(binary.BigEndian.Uint16(p.Raw[20:]))
	head := acceptHead
	if a.Version >= LongLengths {
		head = 40 // with the units' long forms
	}
	if a.Version < lowestVersion || a.Version > version+100 || at < acceptHead || at+data > len(p.Raw) ||
		len(p.Raw) < head {
		return AcceptPacket{}, ErrNotTNS
	}
	a.Replay = bytes.Clone(p.Raw[:max(head, at+data)])
	a.Replay[5] &^= 1 // nothing of what may stand behind is shown
	binary.BigEndian.PutUint16(a.Replay, uint16(len(a.Replay)))
	binary.BigEndian.PutUint16(a.Replay[18:], 0) // nor the data, which says nothing to a driver
	binary.BigEndian.PutUint16(a.Replay[20:], uint16(len(a.Replay)))
	return a, nil
}

// Refusal is a listener's refusal, or its answer to a question about itself.
type Refusal struct {
	Code    int    // ORA-…; 0 where it only answers
	Listen  string // the listener's version: "19.0.0.0.0", "" where it does not say
	Text    string // what it said
	Numbers bool   // there was a code
}

// Number is the code as the documentation writes it: "ORA-12514".
func (r Refusal) Number() string { return fmt.Sprintf("ORA-%05d", r.Code) }

// Numbers for a service or an instance that a listener does not know (Oracle documentation, "Database Error
// Messages").
const (
	UnknownSID      = 12505
	UnknownService  = 12514
	UnknownInstance = 12521
)

// Unknown reports whether the listener does not know the service or the instance.
func (r Refusal) Unknown() bool {
	return r.Code == UnknownService || r.Code == UnknownSID || r.Code == UnknownInstance
}

var (
	refusalCode    = once(`(?i)\(\s*ERR\s*=\s*(\d{1,7})\s*\)`)
	refusalStack   = once(`(?i)\(\s*CODE\s*=\s*(\d{1,7})\s*\)`)
	refusalVersion = once(`(?i)\(\s*VSNNUM\s*=\s*(\d{1,10})\s*\)`)
)

// ParseRefuse reads a refuse packet.
func ParseRefuse(p Packet) (Refusal, error) {
	if p.Type != Refuse || len(p.Raw) < 12 {
		return Refusal{}, ErrNotTNS
	}
	size := int(binary.BigEndian.Uint16(p.Raw[10:]))
	r := Refusal{Text: string(p.Raw[12:min(len(p.Raw), 12+size)])}
	for _, pattern := range []*regexp.Regexp{refusalCode(), refusalStack()} {
		if m := pattern.FindStringSubmatch(r.Text); m != nil && !r.Numbers {
			r.Code, _ = strconv.Atoi(m[1])
			r.Numbers = true
		}
	}
	if m := refusalVersion().FindStringSubmatch(r.Text); m != nil {
		n, _ := strconv.ParseUint(m[1], 10, 32)
		r.Listen = Version(uint32(n))
	}
	return r, nil
}

// Version spells a version number out: from 18 on by one packing, before by another.
func Version(n uint32) string {
	if n == 0 {
		return ""
	}
	if n>>24 >= 18 {
		return fmt.Sprintf("%d.%d.%d.%d.%d", n>>24, n>>16&0xff, n>>12&0xf, n>>4&0xff, n&0xf)
	}
	return fmt.Sprintf("%d.%d.%d.%d.%d", n>>24, n>>20&0xf, n>>12&0xff, n>>8&0xf, n&0xff)
}

// Place is the address to which a listener redirects.
type Place struct {
	Host string
	Port int
	Data string // the connect data to say there, "" for the same again
	Text string // what it said
}

var (
	placeHost = once(`(?i)\(\s*HOST\s*=\s*([^()\s]{1,253})\s*\)`)
	placePort = once(`(?i)\(\s*PORT\s*=\s*(\d{1,5})\s*\)`)
)

// ParseRedirect reads a redirect packet. more is the number of bytes that follow in a data packet; Follow reads them.
func ParseRedirect(p Packet) (place Place, more int, err error) {
	if p.Type != Redirect || len(p.Raw) < 10 {
		return Place{}, 0, ErrNotTNS
	}
	size := int(binary.BigEndian.Uint16(p.Raw[8:]))
	if len(p.Raw) == 10 && size > 0 {
		return Place{}, size, nil
	}
	if len(p.Raw) < 10+size {
		return Place{}, 0, ErrNotTNS
	}
	place, err = ParsePlace(p.Raw[10:10+size], p.Flags&2 != 0)
	return place, 0, err
}

// ParsePlace reads the text of a redirect; parted says that connect data follows the
// address behind a zero byte.
func ParsePlace(text []byte, parted bool) (Place, error) {
	address, data := text, []byte(nil)
	if i := bytes.IndexByte(text, 0); parted && i >= 0 {
		address, data = text[:i], text[i+1:]
	}
	place := Place{Text: string(address), Data: string(bytes.Trim(data, "\x00"))}
	host, port := placeHost().FindSubmatch(address), placePort().FindSubmatch(address)
	if host == nil || port == nil {
		return place, ErrNotTNS
	}
	place.Host = string(host[1])
	place.Port, _ = strconv.Atoi(string(port[1]))
	if place.Port < 1 || place.Port > 65535 {
		return place, ErrNotTNS
	}
	return place, nil
}

// DataBody is the body of a data packet of the opening.
func DataBody(p Packet) ([]byte, error) {
	if p.Type != Data || len(p.Raw) < 10 {
		return nil, ErrNotTNS
	}
	return p.Raw[10:], nil
}

// MaxResends bounds how often a server may ask for the connect packet again: once is usual, when it hands the
// connection to another process.
const MaxResends = 3

// Answer is a listener's answer to a connect packet.
type Answer struct {
	Type    Type // Accept, Refuse or Redirect
	Refusal Refusal
	Place   Place // of a redirect
}

// Ask asks a listener for a target on a new connection, and reads its answer. It does not log in.
func Ask(conn io.ReadWriter, target Target) (Answer, error) {
	packet := ConnectPacket(target)
	for range MaxResends {
		if _, err := conn.Write(packet); err != nil {
			return Answer{}, err
		}
		p, err := Read(conn)
		if err != nil {
			return Answer{}, err
		}
		a := Answer{Type: p.Type}
		switch p.Type {
		case Resend:
			continue
		case Accept:
			_, err = ParseAccept(p)
		case Refuse:
			a.Refusal, err = ParseRefuse(p)
		case Redirect:
			more := 0
			if a.Place, more, err = ParseRedirect(p); err == nil && more > 0 {
				err = ErrNotTNS // a form that only a conversation follows
			}
		default:
			err = ErrNotTNS
		}
		return a, err
	}
	return Answer{}, ErrNotTNS
}

// once is an expression that is compiled at its first use.
func once(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
