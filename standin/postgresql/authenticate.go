package postgresql

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
)

// authenticate asks for the password by the role's method. As a real server
// does, it asks an unknown role too and then gives the same answer as for a
// wrong password.
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
	usable := known && !role.Expired && role.Password != ""
	switch role.Method {
	case "trust":
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
	ok, err := s.scram(role.Password)
	if err != nil {
		return err
	}
	if !ok || !usable {
		return wrong()
	}
	return nil
}

// faultAtPassword commits the faults of a server that has the password.
func (s *session) faultAtPassword() bool {
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
func (s *session) scram(password string) (bool, error) {
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
	salt, nonce := make([]byte, 16), make([]byte, 18)
	rand.Read(salt)
	rand.Read(nonce)
	const rounds = 4096
	combined := clientNonce + base64.StdEncoding.EncodeToString(nonce)
	serverFirst := fmt.Sprintf("r=%s,s=%s,i=%d", combined, base64.StdEncoding.EncodeToString(salt), rounds)
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
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return false, err
	}
	authMessage := parts[2] + "," + serverFirst + "," + withoutProof
	clientKey := mac(salted, "Client Key")
	stored := sha256.Sum256(clientKey)
	signature := mac(stored[:], authMessage)
	for i := range given {
		given[i] ^= signature[i]
	}
	if !hmac.Equal(given, clientKey) {
		return false, nil
	}
	verifier := mac(mac(salted, "Server Key"), authMessage)
	s.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte("v=" + base64.StdEncoding.EncodeToString(verifier))})
	return true, nil
}

func mac(key []byte, text string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(text))
	return h.Sum(nil)
}
