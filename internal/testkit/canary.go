package testkit

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// forms are the ways in which a secret could show: as it is, and encoded.
func forms(secret string) []string {
	inJSON, _ := json.Marshal(secret)
	quoted := strconv.Quote(secret)
	all := []string{secret, url.QueryEscape(secret), url.PathEscape(secret), strings.Trim(string(inJSON), `"`),
		strings.Trim(quoted, `"`),
		hex.EncodeToString([]byte(secret)), strings.ToUpper(hex.EncodeToString([]byte(secret))),
		// the last as findings quote
		strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace(secret), strings.ReplaceAll(secret, `"`, "'")}
	// base64 at each place within three bytes, less the characters shared with what stands around
	for shift, mixed := range []int{0, 2, 3} {
		encoded := strings.TrimRight(base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", shift)+secret)), "=")
		all = append(all, encoded[mixed:len(encoded)-2])
	}
	return all
}

// Shows returns the form in which a text has a secret in it, "" for none.
func Shows(text, secret string) string {
	for _, form := range forms(secret) {
		if strings.Contains(text, form) {
			return form
		}
	}
	return ""
}

// NoSecret fails the test where a text has a secret in it, in any form.
func NoSecret(t testing.TB, where, text string, secrets ...string) {
	t.Helper()
	for _, secret := range secrets {
		if form := Shows(text, secret); form != "" {
			t.Errorf("%s shows the secret as %q:\n%s", where, form, text)
			return
		}
	}
}

// NoSecretIn searches every file below a folder but those named.
func NoSecretIn(t testing.TB, folder string, except []string, secrets ...string) {
	t.Helper()
	filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		for _, e := range except {
			if path == e {
				return nil
			}
		}
		if data, err := os.ReadFile(path); err == nil {
			NoSecret(t, path, string(data), secrets...)
		}
		return nil
	})
}
