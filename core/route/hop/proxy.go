package hop

import (
	"bufio"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/textproto"
	"os"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/secret"
)

// proxyError is a proxy's refusal.
type proxyError struct {
	reason        Reason
	text          string // what it said, or its number's meaning
	login         bool   // it wants another login
	otherProtocol bool   // it does not speak the proxy's protocol
}

func (e *proxyError) Error() string { return e.text }

// proxyLink makes a link of a proxy. A proxy has a login for each connection; the first uses the connection that was
// made already.
func (d *Dialer) proxyLink(ctx context.Context, before *Link, h *Hop, first net.Conn) (*Link, finding.Result) {
	l := &Link{Hop: h, before: before, gone: make(chan struct{})}
	user, password, place, found := d.proxyLogin(ctx, h)
	if found != nil {
		first.Close()
		return nil, finding.FailWith(found)
	}
	spare := make(chan net.Conn, 1)
	spare <- first
	l.proxy = func(ctx context.Context, address string) (net.Conn, error) {
		var conn net.Conn
		select {
		case conn = <-spare:
		default:
			var unreached *finding.Finding
			if conn, unreached = d.reach(ctx, before, h); unreached != nil {
				return nil, &proxyError{reason: Dropped, text: unreached.Cause}
			}
		}
		through, err := ask(ctx, conn, h.Proxy, address, user, password)
		if err != nil {
			conn.Close()
		}
		return through, err
	}
	l.Detail = fmt.Sprintf("%s accepts", h)
	if place != "" {
		l.Detail += ", password from: " + place
	}
	return l, finding.Good("%s", l.Detail)
}

// clear is the finding for a proxy whose password would go over the network in the clear: the proxy is on another
// machine, with no SSH hop before it.
func (h *Hop) clear(before *Link) *finding.Finding {
	if h.Proxy == "" || h.User == "" || hostname.Local(h.Host) || before.lastSSH() != nil {
		return nil
	}
	return finding.New(finding.HopProxyClear,
		"the password for the proxy at %s would be sent in clear text, so it was not sent", h.Address()).
		Suggest("%s   # if the proxy wants no login", h.set("user", "")).
		Advise("ask the administrator of %s for an SSH server in front of it", h.Host)
}

// proxyLogin takes the user and the password for a proxy, where the profile names a user.
func (d *Dialer) proxyLogin(ctx context.Context,
	h *Hop) (user string, password secret.Value, place string, found *finding.Finding) {
	if h.User == "" {
		return "", password, "", nil
	}
	password, place, err := d.take(ctx, h.query(secret.OfHop, "secret", h.Word))
	var failure *secret.Failure
	switch {
	case errors.As(err, &failure):
		return "", password, "", failure.Found
	case err != nil:
		return "", password, "",
			finding.New(finding.HopProxyLogin, "the password for the proxy could not be read").
				Saw("%s", clean.Line(err.Error(), 200)).Suggest("%s", h.set("secret", "ask"))
	}
	return h.User, password, place, nil
}

// ask asks a proxy for a connection.
func ask(ctx context.Context, conn net.Conn, kind, address, user string, password secret.Value) (net.Conn, error) {
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	talk := connect
	if kind == "socks5" {
		talk = socks5
	}
	through, err := talk(conn, address, user, password)
	if !stop() && err == nil {
		err = ctx.Err()
	}
	var answer *proxyError
	if err != nil && ctx.Err() != nil && !errors.As(err, &answer) {
		return nil, ctx.Err()
	}
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = &proxyError{reason: Other, text: "it closed the connection"}
	}
	return through, err
}

// socksReplies are what a SOCKS5 server says (RFC 1928, section 6).
var socksReplies = map[byte]struct {
	reason Reason
	text   string
}{
	1: {Other, "general failure"},
	2: {Prohibited, "not allowed by its rules"},
	3: {Unreachable, "network unreachable"},
	4: {Unreachable, "host unreachable"},
	5: {Refused, "connection refused"},
	6: {Silent, "time to live ran out"},
	7: {Prohibited, "command not supported"},
	8: {Other, "kind of address not supported"},
}

// socks5 asks a SOCKS5 proxy for a connection (RFC 1928; user and password by RFC 1929). The proxy looks the name up.
func socks5(conn net.Conn, address, user string, password secret.Value) (net.Conn, error) {
	methods := []byte{5, 1, 0}
	if user != "" {
		methods = []byte{5, 2, 0, 2}
	}
	if _, err := conn.Write(methods); err != nil {
		return nil, err
	}
	var reply [2]byte
	if _, err := io.ReadFull(conn, reply[:]); err != nil {
		// a proxy answers at once
		return nil, &proxyError{otherProtocol: true, text: "no answer to SOCKS5's first words"}
	}
	switch {
	case reply[0] != 5:
		return nil, &proxyError{otherProtocol: true, text: "an answer that is not SOCKS5's"}
	case reply[1] == 2 && user != "":
		if err := socksLogin(conn, user, password); err != nil {
			return nil, err
		}
	case reply[1] != 0:
		return nil, &proxyError{login: true, text: "it wants a login"}
	}
	request, err := socksRequest(address)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Write(request); err != nil {
		return nil, err
	}
	return conn, socksReply(conn)
}

func socksLogin(conn net.Conn, user string, password secret.Value) error {
	if len(user) > 255 || len(password.Disclose()) > 255 {
		return &proxyError{login: true, text: "a user or password of more than 255 bytes, which SOCKS5 can't carry"}
	}
	p := append([]byte{1, byte(len(user))}, user...)
	p = append(append(p, byte(len(password.Disclose()))), password.Disclose()...)
	if _, err := conn.Write(p); err != nil {
		return err
	}
	var reply [2]byte
	if _, err := io.ReadFull(conn, reply[:]); err != nil {
		return err
	}
	if reply[1] != 0 {
		return &proxyError{login: true, text: "it refuses the user and password"}
	}
	return nil
}

// socksRequest is a CONNECT request for host:port.
func socksRequest(address string) ([]byte, error) {
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return nil, err
	}
	p := []byte{5, 1, 0}
	if addr, err := netip.ParseAddr(host); err == nil && addr.Unmap().Is4() {
		p = append(append(p, 1), addr.Unmap().AsSlice()...)
	} else if err == nil {
		p = append(append(p, 4), addr.WithZone("").AsSlice()...)
	} else if len(host) > 255 {
		return nil, &proxyError{reason: NameUnknown, text: "a name of more than 255 bytes"}
	} else {
		p = append(append(p, 3, byte(len(host))), host...)
	}
	return binary.BigEndian.AppendUint16(p, uint16(port)), nil
}

// socksReply reads the answer to a request, to its last byte and no further.
func socksReply(r io.Reader) error {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	if head[0] != 5 {
		return &proxyError{otherProtocol: true, text: "an answer that is not SOCKS5's"}
	}
	if head[1] != 0 {
		known, ok := socksReplies[head[1]]
		if !ok {
			return &proxyError{reason: Other, text: fmt.Sprintf("failure number %d", head[1])}
		}
		return &proxyError{reason: known.reason, text: known.text}
	}
	size := map[byte]int{1: 4, 4: 16}[head[3]]
	if head[3] == 3 {
		var n [1]byte
		if _, err := io.ReadFull(r, n[:]); err != nil {
			return err
		}
		size = int(n[0])
	} else if size == 0 {
		return &proxyError{otherProtocol: true, text: "an answer that is not SOCKS5's"}
	}
	_, err := io.CopyN(io.Discard, r, int64(size)+2)
	return err
}

// maxAnswer bounds the head of a proxy's answer.
const maxAnswer = 16 << 10

// connect asks an HTTP proxy by CONNECT (RFC 9110, section 9.3.6).
func connect(conn net.Conn, address, user string, password secret.Value) (net.Conn, error) {
	request := "CONNECT " + address + " HTTP/1.1\r\nHost: " + address + "\r\n"
	if user != "" {
		request += "Proxy-Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password.Disclose())) +
			"\r\n"
	}
	if _, err := io.WriteString(conn, request+"\r\n"); err != nil {
		return nil, err
	}
	in := bufio.NewReaderSize(&limitedReader{conn, maxAnswer}, 4096)
	err := connectReply(in)
	if err != nil {
		return nil, err
	}
	if n := in.Buffered(); n > 0 { // the server greeted already
		early, _ := in.Peek(n)
		return &bufferedConn{Conn: conn, early: append([]byte(nil), early...)}, nil
	}
	return conn, nil
}

// connectReply reads the head of the answer to CONNECT.
func connectReply(in *bufio.Reader) error {
	text := textproto.NewReader(in)
	line, err := text.ReadLine()
	if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		return &proxyError{otherProtocol: true, text: "no answer of HTTP's"}
	}
	if err != nil {
		return err
	}
	version, rest, ok := strings.Cut(line, " ")
	word, reason, _ := strings.Cut(rest, " ")
	status, err := strconv.Atoi(word)
	if !ok || !strings.HasPrefix(version, "HTTP/1.") || err != nil {
		return &proxyError{otherProtocol: true, text: "an answer that is not HTTP's"}
	}
	if status/100 == 2 {
		_, err = text.ReadMIMEHeader()
		return err
	}
	why := Other
	switch status {
	case 403, 405, 501:
		why = Prohibited
	case 502, 503:
		why = Unreachable
	case 504:
		why = Silent
	}
	return &proxyError{reason: why, login: status == 407, text: fmt.Sprintf("%d %s", status, clean.Line(reason, 100))}
}

// limitedReader bounds how much is read from a hostile proxy.
type limitedReader struct {
	io.Reader
	left int
}

func (l *limitedReader) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, &proxyError{otherProtocol: true, text: "an answer without end"}
	}
	n, err := l.Reader.Read(p[:min(len(p), l.left)])
	l.left -= n
	return n, err
}

// bufferedConn is a connection of which some bytes were read already.
type bufferedConn struct {
	net.Conn
	early []byte
}

func (a *bufferedConn) Read(p []byte) (int, error) {
	if len(a.early) > 0 {
		n := copy(p, a.early)
		a.early = a.early[n:]
		return n, nil
	}
	return a.Conn.Read(p)
}

// CloseWrite ends this side's part of the connection; the other side can still send.
func (a *bufferedConn) CloseWrite() error {
	if half, ok := a.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return a.Conn.Close()
}

// Refusal is the finding for a proxy's own refusal of a connection; nil for one that
// is about the address behind it.
func (l *Link) Refusal(err error) *finding.Finding {
	var answer *proxyError
	if !errors.As(err, &answer) {
		return nil
	}
	h := l.Hop
	switch {
	case answer.login:
		return finding.New(finding.HopProxyLogin, "the %s refuses the login", h).
			Saw("it said %s", clean.Quote(answer.text)).
			Advise("name another user: %s", h.set("user", "NAME")).Suggest("%s", h.set("secret", "ask"))
	case answer.otherProtocol:
		return h.suggestAddress(finding.New(finding.HopNotProxy, "what listens at %s is not a proxy of the kind %s",
			h.Address(),
			h.Proxy).Saw("it gave %s", answer.text))
	}
	return nil
}
