package mysql

import (
	"bytes"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"gentleharbor/core/secret"
)

// The plugins whose stored form is computed here.
const (
	nativePlugin = "mysql_native_password"
	sha2Plugin   = "caching_sha2_password"
)

// nativeHash is the stored form of a password for mysql_native_password: "*", and SHA-1 of the SHA-1 in hexadecimal
// (MySQL reference manual, "Native Pluggable Authentication").
func nativeHash(v secret.Value) string {
	first := sha1.Sum([]byte(v.Disclose()))
	second := sha1.Sum(first[:])
	return "*" + strings.ToUpper(hex.EncodeToString(second[:]))
}

// The parts of a stored form of caching_sha2_password: "$A$", the rounds in thousands as three hexadecimal digits, "$",
// a salt of 20 bytes and the digest as 43 characters (MySQL source, sha2_password_common.h).
const (
	sha2Prefix = "$A$"
	sha2Rounds = 5
	sha2Salt   = 20
)

// cryptAlphabet are the 64 characters in which a digest of crypt is written.
const cryptAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// sha2Hash is the stored form of a password for caching_sha2_password. Its salt has only printable characters, so
// that it can be written in quotes.
func sha2Hash(v secret.Value) string {
	salt := make([]byte, sha2Salt)
	rand.Read(salt)
	for i := range salt {
		salt[i] = cryptAlphabet[salt[i]&63]
	}
	return sha2HashOf(v, salt, sha2Rounds)
}

// sha2HashOf is the stored form for a salt and thousands of rounds.
func sha2HashOf(v secret.Value, salt []byte, thousands int) string {
	return fmt.Sprintf("%s%03X$%s%s", sha2Prefix, thousands, salt,
		sha256Crypt([]byte(v.Disclose()), salt, thousands*1000))
}

// hashOf is the stored form of a password for a plugin.
func hashOf(plugin string, v secret.Value) string {
	if plugin == sha2Plugin {
		return sha2Hash(v)
	}
	return nativeHash(v)
}

// keeps reports whether a plugin's stored form is that of a password. known is false for a plugin whose form we can't
// read.
func keeps(plugin, stored string, v secret.Value) (same, known bool) {
	switch plugin {
	case nativePlugin, "":
		return stored != "" && stored == nativeHash(v), true
	case sha2Plugin:
		rest, ok := strings.CutPrefix(stored, sha2Prefix)
		if !ok || len(rest) < 4+sha2Salt || rest[3] != '$' {
			return false, stored == ""
		}
		rounds, err := strconv.ParseUint(rest[:3], 16, 16)
		if err != nil || rounds == 0 || rounds > 100 { // 100,000 rounds take a tenth of a second
			return false, false
		}
		return sha2HashOf(v, []byte(rest[4:4+sha2Salt]), int(rounds)) == stored, true
	}
	return false, false
}

// cryptOrder is the order in which the bytes of a digest are written, three at a time ("Unix crypt using SHA-256 and
// SHA-512", step 22).
var cryptOrder = [...]int{0, 10, 20, 21, 1, 11, 12, 22, 2, 3, 13, 23, 24, 4, 14, 15, 25, 5, 6, 16, 26, 27, 7, 17,
	18, 28, 8,
	9, 19, 29}

// sha256Crypt is the digest of "Unix crypt using SHA-256 and SHA-512" by Ulrich Drepper, for a salt of any length: the
// libraries that have it cut the salt after 16 bytes, and MySQL's has 20.
func sha256Crypt(password, salt []byte, rounds int) string {
	b := sha256.Sum256(bytes.Join([][]byte{password, salt, password}, nil))
	a := sha256.New()
	a.Write(password)
	a.Write(salt)
	a.Write(stretch(b[:], len(password)))
	for n := len(password); n > 0; n >>= 1 {
		if n&1 != 0 {
			a.Write(b[:])
		} else {
			a.Write(password)
		}
	}
	digest := a.Sum(nil)
	dp, ds := sha256.New(), sha256.New()
	for range len(password) {
		dp.Write(password)
	}
	for range 16 + int(digest[0]) {
		ds.Write(salt)
	}
	p, s := stretch(dp.Sum(nil), len(password)), stretch(ds.Sum(nil), len(salt))
	for i := range rounds {
		h := sha256.New()
		first, last := digest, p
		if i&1 != 0 {
			first, last = p, digest
		}
		h.Write(first)
		if i%3 != 0 {
			h.Write(s)
		}
		if i%7 != 0 {
			h.Write(p)
		}
		h.Write(last)
		digest = h.Sum(nil)
	}
	var text strings.Builder
	write := func(b2, b1, b0 byte, n int) {
		for w := uint(b2)<<16 | uint(b1)<<8 | uint(b0); n > 0; n-- {
			text.WriteByte(cryptAlphabet[w&63])
			w >>= 6
		}
	}
	for i := 0; i < len(cryptOrder); i += 3 {
		write(digest[cryptOrder[i]], digest[cryptOrder[i+1]], digest[cryptOrder[i+2]], 4)
	}
	write(0, digest[31], digest[30], 3)
	return text.String()
}

// stretch repeats a digest to a length.
func stretch(digest []byte, n int) []byte {
	return bytes.Repeat(digest, n/len(digest)+1)[:n]
}
