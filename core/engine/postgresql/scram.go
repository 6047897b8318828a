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
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// scramIterations is the server's own default (PostgreSQL documentation, "scram_iterations").
const scramIterations = 4096

// scramVerifier is the form in which a server stores a password for SCRAM-SHA-256. The server also takes it in place
// of the password, so that no log of the server has the password (RFC 5802, section 3; PostgreSQL documentation,
// "pg_authid").
func scramVerifier(v secret.Value) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return verifierOf(v, salt, scramIterations)
}

// verifierOf is the verifier for a salt and a count.
func verifierOf(v secret.Value, salt []byte, iterations int) string {
	salted, err := pbkdf2.Key(sha256.New, engine.SASLPrep(v.Disclose()), salt, iterations, sha256.Size)
	if err != nil {
		panic(err) // only a key of another length is refused
	}
	mac := func(text string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	stored, base := sha256.Sum256(mac("Client Key")), base64.StdEncoding
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", iterations, base.EncodeToString(salt),
		base.EncodeToString(stored[:]), base.EncodeToString(mac("Server Key")))
}

// keptMethod is the method for which a password is stored, "" for none.
func keptMethod(stored string) string {
	switch {
	case strings.HasPrefix(stored, "SCRAM-SHA-256$"):
		return methodSCRAM
	case strings.HasPrefix(stored, "md5"):
		return methodMD5
	}
	return ""
}

// keeps reports whether a stored form is that of this password.
func keeps(stored, user string, v secret.Value) bool {
	switch keptMethod(stored) {
	case methodSCRAM:
		count, rest, _ := strings.Cut(strings.TrimPrefix(stored, "SCRAM-SHA-256$"), ":")
		salt, _, _ := strings.Cut(rest, "$")
		iterations, err := strconv.Atoi(count)
		bytes, badSalt := base64.StdEncoding.DecodeString(salt)
		const most = 1 << 24 // a hostile server's count would keep this program busy for hours
		if err != nil || badSalt != nil || iterations < 1 || iterations > most {
			return false
		}
		return hmac.Equal([]byte(verifierOf(v, bytes, iterations)), []byte(stored))
	case methodMD5:
		sum := md5.Sum([]byte(v.Disclose() + user))
		return "md5"+hex.EncodeToString(sum[:]) == stored
	}
	return false
}
