package postgresql

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
)

// authenticate asks for the password by the role's method. As a real server does, it also asks an unknown role, and
// then sends the error of a wrong password.
func (s *session) authenticate(role Role, known bool) error {
	wrong := func() error {
		return s.refuse("28P01", "auth_failed", fmt.Sprintf("password authentication failed for user \"%s\"", s.user))
	}
	if s.Fault == EmptyMethods {
		s.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"TIDE-TABLE-1"}})
		s.backend.Flush()
		s.backend.Receive()
		return errEnded
	}
	usable := known && !role.Expired && role.Password+role.Verifier != ""
	switch role.Method {
	case "trust":
		return nil
	case "cert": // PostgreSQL documentation, "Certificate Authentication"
		conn := s.conn
		if back, ok := conn.(*pushedBack); ok {
			conn = back.Conn
		}
		secure, ok := conn.(*tls.Conn)
		if peers := peersOf(secure); !ok || len(peers) == 0 || peers[0].Subject.CommonName != s.user {
			return s.refuse("28000", "auth_failed", fmt.Sprintf("certificate authentication failed for user \"%s\"", s.user))
		}
		return nil
	case "md5", "password":
		salt := [4]byte{7, 1, 9, 3}
		want := role.Password
		if role.Method == "md5" {
			want = "md5" + hexMD5(hexMD5(role.Password+s.user)+string(salt[:]))
			s.backend.Send(&pgproto3.AuthenticationMD5Password{Salt: salt})
			s.backend.SetAuthType(pgproto3.AuthTypeMD5Password)
		} else {
			s.backend.Send(&pgproto3.AuthenticationCleartextPassword{})
			s.backend.SetAuthType(pgproto3.AuthTypeCleartextPassword)
		}
		if err := s.backend.Flush(); err != nil {
			return err
		}
		message, err := s.backend.Receive()
		if err != nil {
			return err
		}
		password, ok := message.(*pgproto3.PasswordMessage)
		if s.faultAtPassword() {
			return errEnded
		}
		if !ok || !usable || password.Password != want {
			return wrong()
		}
		return nil
	}
	ok, err := s.scram(role)
	if err != nil {
		return err
	}
	if !ok || !usable {
		return wrong()
	}
	return nil
}

// peersOf are the certificates that a client presented.
func peersOf(secure *tls.Conn) []*x509.Certificate {
	if secure == nil {
		return nil
	}
	return secure.ConnectionState().PeerCertificates
}

// faultAtPassword does the faults of a server that has the password.
func (s *session) faultAtPassword() bool {
	if s.PasswordCame != nil {
		s.PasswordCame()
	}
	if s.Fault == HangAtLogin {
		io.Copy(io.Discard, s.conn)
	}
	return s.Fault == CloseAtLogin || s.Fault == HangAtLogin
}

func hexMD5(s string) string {
	sum := md5.Sum([]byte(s))
	return hex.EncodeToString(sum[:])
}

// scram is the server's side of SCRAM-SHA-256 (RFC 5802, RFC 7677), without
// channel binding. It reports whether the client proved the password.
func (s *session) scram(role Role) (bool, error) {
	s.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}})
	s.backend.SetAuthType(pgproto3.AuthTypeSASL)
	if err := s.backend.Flush(); err != nil {
		return false, err
	}
	message, err := s.backend.Receive()
	if err != nil {
		return false, err
	}
	first, ok := message.(*pgproto3.SASLInitialResponse)
	if !ok {
		return false, errEnded
	}
	parts := strings.SplitN(string(first.Data), ",", 3) // "n,,n=…,r=…": the GS2 header, then the bare message
	if len(parts) != 3 {
		return false, errEnded
	}
	_, clientNonce, ok := strings.Cut(parts[2], "r=")
	if !ok {
		return false, errEnded
	}
	keys, err := keysOf(role.verifier())
	if err != nil {
		return false, err
	}
	nonce := make([]byte, 18)
	rand.Read(nonce)
	combined := clientNonce + base64.StdEncoding.EncodeToString(nonce)
	serverFirst := fmt.Sprintf("r=%s,s=%s,i=%d", combined, base64.StdEncoding.EncodeToString(keys.salt), keys.rounds)
	s.backend.Send(&pgproto3.AuthenticationSASLContinue{Data: []byte(serverFirst)})
	s.backend.SetAuthType(pgproto3.AuthTypeSASLContinue)
	if err := s.backend.Flush(); err != nil {
		return false, err
	}
	if message, err = s.backend.Receive(); err != nil {
		return false, err
	}
	final, ok := message.(*pgproto3.SASLResponse)
	if !ok {
		return false, errEnded
	}
	if s.faultAtPassword() {
		return false, errEnded
	}
	withoutProof, proof, ok := strings.Cut(string(final.Data), ",p=")
	if !ok || !strings.Contains(withoutProof, "r="+combined) {
		return false, nil
	}
	given, err := base64.StdEncoding.DecodeString(proof)
	if err != nil || len(given) != sha256.Size {
		return false, nil
	}
	authMessage := parts[2] + "," + serverFirst + "," + withoutProof
	signature := mac(keys.stored, authMessage)
	for i := range given {
		given[i] ^= signature[i]
	}
	if proved := sha256.Sum256(given); !hmac.Equal(proved[:], keys.stored) {
		return false, nil
	}
	verifier := mac(keys.server, authMessage)
	s.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte("v=" + base64.StdEncoding.EncodeToString(verifier))})
	return true, nil
}

// scramKeys are a server's stored form of a password (RFC 5802, section 3).
type scramKeys struct {
	salt, stored, server []byte
	rounds               int
}

// verifier is the stored form of a role's password; an unknown role has one too, so that a client can't see the
// difference.
func (r Role) verifier() string {
	const rounds = 4096
	if r.Verifier != "" {
		return r.Verifier
	}
	salt := []byte("saltmarsh, shore")
	salted, err := pbkdf2.Key(sha256.New, r.Password, salt, rounds, sha256.Size)
	if err != nil {
		panic(err) // only a key of another length is refused
	}
	stored, base := sha256.Sum256(mac(salted, "Client Key")), base64.StdEncoding
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", rounds, base.EncodeToString(salt), base.EncodeToString(stored[:]),
		base.EncodeToString(mac(salted, "Server Key")))
}

// keysOf takes a verifier apart.
func keysOf(verifier string) (k scramKeys, err error) {
	parts := strings.FieldsFunc(strings.TrimPrefix(verifier, "SCRAM-SHA-256$"), func(r rune) bool {
		return r == ':' || r == '$'
	})
	if len(parts) != 4 {
		return k, errEnded
	}
	k.rounds, err = strconv.Atoi(parts[0])
	for i, to := range []*[]byte{&k.salt, &k.stored, &k.server} {
		bytes, wrong := base64.StdEncoding.DecodeString(parts[i+1])
		*to, err = bytes, errors.Join(err, wrong)
	}
	return k, err
}

func mac(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}
