package oracle

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"
)

// session is one accepted connection.
type session struct {
	*Server
	conn    net.Conn
	account *Account // once logged in
	dba     bool

	user      string
	serverKey []byte
	salt      []byte
	mixSalt   []byte
	key       []byte // of the account's password
}

func (s *session) say(w *writer) error {
	_, err := s.conn.Write(data(w.b))
	return err
}

// answer goes on until the client is done.
func (s *session) answer() {
	for {
		p, err := read(s.conn, false)
		if err != nil || p[4] != typeData || len(p) < 10 || p[9]&0x40 != 0 {
			return
		}
		time.Sleep(s.Delay)
		if !s.one(p[10:]) {
			return
		}
	}
}

// one answers one message, and reports whether the conversation goes on.
func (s *session) one(body []byte) bool {
	switch {
	case bytes.HasPrefix(body, []byte{1, 6}):
		return s.say(protocol()) == nil
	case bytes.HasPrefix(body, []byte{2}):
		w := (&writer{}).bytes(2).bytes(128, 0, 0, 0, 60, 60, 60, 128, 0, 0, 0).bytes(0)
		return s.say(w) == nil
	case bytes.HasPrefix(body, []byte{3, 0x76}):
		return s.challenge(body)
	case bytes.HasPrefix(body, []byte{3, 0x73}):
		return s.login(body)
	case s.account == nil:
		return false
	case bytes.HasPrefix(body, []byte{3, 0x3b}):
		text := "Simulated Database, Gentle Harbor"
		return s.say((&writer{}).bytes(8).number(len(text)).text(text).number(int(s.Version))) == nil
	case bytes.HasPrefix(body, []byte{3, 0x5e}):
		switch s.Fault {
		case LoseSession:
			return false
		case HangSession:
			io.Copy(io.Discard, s.conn)
			return false
		}
		return s.say(s.answerTo(body)) == nil
	case bytes.HasPrefix(body, []byte{3, 9}):
		s.say((&writer{}).bytes(9))
		return true
	case bytes.HasPrefix(body, []byte{3, 0x93}), bytes.HasPrefix(body, []byte{3, 0x0e}),
		bytes.HasPrefix(body, []byte{3, 0x0f}):
		return s.say((&writer{}).bytes(9)) == nil
	}
	return false
}

// protocol answers the first message with character sets and the server's capabilities. The version of the message
// forms is 2.
func protocol() *writer {
	w := (&writer{}).bytes(1, 6, 0).bytes([]byte("x86_64/Simulated 1.0\x00")...)
	w.bytes(0x69, 0x03, 1, 0, 0) // AL32UTF8
	w.bytes(0, 11, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x07, 0xd0)
	able := make([]byte, 30)
	able[4], able[7] = 32, 2
	return w.bytes(byte(len(able))).bytes(able...).bytes(2, 2, 1)
}

// find returns a copy of an account, nil where there is none.
func (s *session) find(user string) *Account {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, a := range s.Accounts {
		if strings.EqualFold(a.User, strings.Trim(user, `"`)) {
			return &a
		}
	}
	return nil
}

const verifier10, verifier12 = 2361, 18453

// passwordRounds and mixRounds are those of the two derivations: the least that a client takes.
const passwordRounds, mixRounds = 4096, 3

// challenge is the first half of a login.
func (s *session) challenge(body []byte) bool {
	s.mu.Lock()
	s.logins++
	s.mu.Unlock()
	switch s.Fault {
	case CloseAtLogin:
		return false
	case HangAtLogin:
		io.Copy(io.Discard, s.conn)
		return false
	case NoMethod:
		s.say((&writer{}).summary(28040, "ORA-28040: No matching authentication protocol"))
		return false
	case HugeAtLogin:
		s.conn.Write([]byte{0, 2, 0, 0, typeData, 0, 0, 0, 0, 0})
		return false
	case NoiseAtLogin:
		return s.say((&writer{}).bytes(8, 4, 0xff, 0xff, 0xff, 0xff, 0x40, 0x40).
			bytes(bytes.Repeat([]byte{0x7f}, 400)...)) == nil
	}
	r := &reader{b: body[4:]}
	r.number() // the name's length
	r.number() // the kind of login
	r.take(5)
	if s.user = r.text(); r.bad {
		return false
	}
	for state := range s.states() {
		switch state {
		case Down:
			s.say((&writer{}).summary(1034, "ORA-01034: ORACLE not available"))
			return false
		case Starting:
			s.say((&writer{}).summary(1033, "ORA-01033: ORACLE initialization or shutdown in progress"))
			return false
		}
	}
	s.salt, s.mixSalt, s.serverKey = random(16), random(16), random(32)
	kind := verifier12
	if s.Fault == WeakVerifier {
		kind = verifier10
	}
	password := "an account that is not there"
	if a := s.find(s.user); a != nil {
		password = a.Password
	}
	s.key = passwordKey(password, s.salt)
	w := (&writer{}).bytes(8).number(5)
	w.pair("AUTH_SESSKEY", upperHex(crypt(s.key, s.serverKey, true)), 1)
	w.pair("AUTH_VFR_DATA", upperHex(s.salt), kind)
	w.pair("AUTH_PBKDF2_CSK_SALT", upperHex(s.mixSalt), 0)
	w.pair("AUTH_PBKDF2_VGEN_COUNT", fmt.Sprint(passwordRounds), 0)
	w.pair("AUTH_PBKDF2_SDER_COUNT", fmt.Sprint(mixRounds), 0)
	return s.say(w.summary(0, "")) == nil
}

// states are the states of the services, where none is up.
func (s *session) states() map[State]bool {
	all := make(map[State]bool)
	for _, state := range s.Services {
		all[state] = true
	}
	if all[Up] {
		return nil
	}
	return all
}

// login is the second half: the client's key, and the password under the mix of both.
func (s *session) login(body []byte) bool {
	r := &reader{b: body[3:]}
	if r.byte() == 1 {
		r.number()
	} else {
		r.byte()
	}
	mode := r.number()
	r.byte()
	count := r.number()
	r.take(2)
	r.text()
	said := make(map[string]string)
	for range min(count, 64) {
		key := r.readSized()
		said[key] = r.readSized()
		r.number()
	}
	if r.bad || s.serverKey == nil {
		return false
	}
	a := s.find(s.user)
	code, text := 0, ""
	switch {
	case a != nil && a.Locked: // said whatever the password is
		code, text = 28000, "ORA-28000: The account is locked."
	case a == nil || !s.opens(a, said):
		code, text = 1017, "ORA-01017: invalid username/password; logon denied"
	case a.Expired:
		code, text = 28001, "ORA-28001: the password has expired"
	case a.NoSession:
		code, text = 1045, "ORA-01045: user "+a.User+" lacks CREATE SESSION privilege; logon denied"
	case mode&0x60 != 0 && !a.DBA:
		code, text = 1031, "ORA-01031: insufficient privileges"
	case mode&0x60 == 0 && a.User == "SYS":
		code, text = 28009, "ORA-28009: connection as SYS should be as SYSDBA or SYSOPER"
	}
	if code != 0 {
		if s.Fault == Escapes {
			text += "\x1b]0;gone\x07\u202e"
		}
		s.say((&writer{}).summary(code, text))
		return false
	}
	s.account, s.dba = a, mode&0x60 != 0
	w := (&writer{}).bytes(8)
	pairs := [][2]string{{"AUTH_SESSION_ID", "41"}, {"AUTH_SERIAL_NUM", "7"}, {"AUTH_VERSION_NO", fmt.Sprint(s.Version)},
		{"AUTH_DBNAME", "SKEIN"},
		{"AUTH_SC_DBUNIQUE_NAME", "skein_a"}, {"AUTH_SC_INSTANCE_NAME", "skein1"}, {"AUTH_SC_SERVER_HOST", "archive-a"},
		{"AUTH_SC_SERVICE_NAME", "SKEIN"},
		{"AUTH_SC_INSTANCE_START_TIME", "2026-11-02 06:30:00.000000000 +00:00"}}
	w.number(len(pairs))
	for _, p := range pairs {
		w.pair(p[0], p[1], 0)
	}
	if a.Grace {
		warning := "ORA-28002: the password will expire within 7 days"
		w.bytes(15).number(28002).number(len(warning)).number(0).text(warning)
	}
	w.bytes(23, 5).number(0).bytes(0).number(1).bytes(0).pair("AUTH_NLS_LXLAN", "AMERICAN", 0).number(0)
	return s.say(w.summary(0, "")) == nil
}

// opens reports whether the client knows the account's password.
func (s *session) opens(a *Account, said map[string]string) bool {
	theirs, err := hex.DecodeString(said["AUTH_SESSKEY"])
	sealed, err2 := hex.DecodeString(said["AUTH_PASSWORD"])
	if err != nil || err2 != nil || len(theirs) != 32 || len(sealed) < 32 || len(sealed)%16 != 0 {
		return false
	}
	clientKey := crypt(s.key, theirs, false)
	mix := derive([]byte(upperHex(append(slices.Clone(clientKey), s.serverKey...))), s.mixSalt, mixRounds)[:32]
	open := crypt(mix, sealed, false)
	pad := int(open[len(open)-1])
	if pad < 1 || pad > 16 || len(open) < 16+pad {
		return false
	}
	return hmac.Equal(open[16:len(open)-pad], []byte(a.Password))
}

// passwordKey is the key that encrypts the server's half.
func passwordKey(password string, salt []byte) []byte {
	long := derive([]byte(password), append(slices.Clone(salt), "AUTH_PBKDF2_SPEEDY_KEY"...), passwordRounds)
	sum := sha512.Sum512(append(long, salt...))
	return sum[:32]
}

// derive is PBKDF2 with HMAC-SHA-512 (RFC 8018, section 5.2): 64 bytes.
func derive(password, salt []byte, rounds int) []byte {
	key, err := pbkdf2.Key(sha512.New, string(password), salt, rounds, sha512.Size)
	if err != nil {
		panic(err) // the lengths are constants
	}
	return key
}

// crypt is AES in CBC mode from a block of zeros.
func crypt(key, text []byte, encrypt bool) []byte {
	block, err := aes.NewCipher(key)
	if err != nil {
		panic(err) // the key's length is a constant
	}
	out := make([]byte, len(text))
	if encrypt {
		cipher.NewCBCEncrypter(block, make([]byte, 16)).CryptBlocks(out, text)
	} else {
		cipher.NewCBCDecrypter(block, make([]byte, 16)).CryptBlocks(out, text)
	}
	return out
}

func random(n int) []byte {
	p := make([]byte, n)
	rand.Read(p)
	return p
}

func upperHex(p []byte) string { return strings.ToUpper(hex.EncodeToString(p)) }

// Do runs an administrator's statement about an account: ALTER USER … ACCOUNT UNLOCK or IDENTIFIED BY, GRANT CREATE
// SESSION or SYSDBA.
func (s *Server) Do(statement string) error {
	words := strings.Fields(strings.NewReplacer(`"`, "", ";", "").Replace(statement))
	s.mu.Lock()
	defer s.mu.Unlock()
	change := func(user string, change func(*Account)) error {
		for i := range s.Accounts {
			if strings.EqualFold(s.Accounts[i].User, user) {
				change(&s.Accounts[i])
				return nil
			}
		}
		return fmt.Errorf("no account %s", user)
	}
	switch text := strings.Join(words, " "); {
	case strings.HasPrefix(text, "SELECT "):
		return nil
	case len(words) == 5 && strings.HasPrefix(text, "ALTER USER") && words[4] == "UNLOCK":
		return change(words[2], func(a *Account) { a.Locked = false })
	case len(words) >= 6 && strings.HasPrefix(text, "ALTER USER") && words[4] == "BY":
		return change(words[2], func(a *Account) { a.Password, a.Expired, a.Grace = words[5], false, false })
	case len(words) == 5 && strings.HasPrefix(text, "GRANT CREATE SESSION TO"):
		return change(words[4], func(a *Account) { a.NoSession = false })
	case len(words) == 4 && strings.HasPrefix(text, "GRANT SYSDBA TO"):
		return change(words[3], func(a *Account) { a.DBA = true })
	}
	return fmt.Errorf("not a statement that is known here: %s", statement)
}
