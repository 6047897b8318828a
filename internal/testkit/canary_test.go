package testkit

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strconv"
	"testing"
)

// TestShows: the search finds a secret in every form that it is to find.
func TestShows(t *testing.T) {
	const secret = `Reed-Bunting:7\"q' %7e&é`
	for name, text := range map[string]string{
		"plain":           "x" + secret + "y",
		"query":           "?p=" + url.QueryEscape(secret),
		"path":            url.PathEscape(secret),
		"quoted":          strconv.Quote(secret),
		"hex":             hex.EncodeToString([]byte(secret)),
		"base64":          base64.StdEncoding.EncodeToString([]byte(secret)),
		"base64, basic":   base64.StdEncoding.EncodeToString([]byte("warden:" + secret + "!")),
		"base64, shifted": base64.StdEncoding.EncodeToString([]byte("ab" + secret)),
	} {
		if Shows(text, secret) == "" {
			t.Errorf("%s: not found in %q", name, text)
		}
	}
	if Shows("Reed-Bunting is a bird", secret) != "" {
		t.Error("found where it is not")
	}
}
