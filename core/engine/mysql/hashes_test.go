package mysql

import (
	"strings"
	"testing"

	"gentleharbor/core/secret"
)

// TestCrypt compares with the vectors of "Unix crypt using SHA-256 and SHA-512" and those of a C library's crypt.
func TestCrypt(t *testing.T) {
	for _, c := range []struct{ password, salt, want string }{
		{"Hello world!", "saltstring", "5B8vYYiY.CVt1RlTTf8KbXBH3hsxY/GNooZaBBGWEc5"},
		{"curlew", "abcdefghijklmnop", "ftAdYa.4Rzb3SI0b8PArdmDI1OALSLtyt7gw6dRyfw9"},
		{"a very much longer text to encrypt.  This one even stretches over morethan one line.", "toolongsaltstrin",
			"/l//PlTmqUGB3Tk2aYj...M0rpL6G2kN3R1w7KehV/1"},
	} {
		if got := sha256Crypt([]byte(c.password), []byte(c.salt), 5000); got != c.want {
			t.Errorf("%q with %q: %s", c.password, c.salt, got)
		}
	}
}

func TestStoredForms(t *testing.T) {
	password, other := secret.NewValue("password"), secret.NewValue("passwork")
	if got := nativeHash(password); got != "*2470C0C06DEE42FD1618BB99005ADCA2EC9D1E19" {
		t.Errorf("the native form is %s", got)
	}
	// As an independent server of the protocol makes it of this salt.
	const stored = "$A$005$ThisIsTwentyBytesLoXdp.9yJNTCGZm6OM1PncSoFF7rcMmjAAhFKMe5XBpq44"
	if made := sha2HashOf(secret.NewValue("harbor lights"), []byte("ThisIsTwentyBytesLoX"), 5); made != stored {
		t.Errorf("the form is %s", made)
	}
	for _, plugin := range []string{nativePlugin, sha2Plugin} {
		kept := hashOf(plugin, password)
		if same, known := keeps(plugin, kept, password); !same || !known {
			t.Errorf("%s does not know its own form again", plugin)
		}
		if same, known := keeps(plugin, kept, other); same || !known {
			t.Errorf("%s takes another password", plugin)
		}
		if hashOf(plugin, password) != kept != (plugin == sha2Plugin) {
			t.Errorf("%s: two forms of one password", plugin)
		}
	}
	for _, odd := range [][2]string{{"ed25519", "x"}, {sha2Plugin, "$A$FFF$ThisIsTwentyBytesLoX" + strings.Repeat("x", 43)}, {sha2Plugin, "$A$005$short"}, {sha2Plugin, "odd"}} {
		if same, known := keeps(odd[0], odd[1], password); same || known {
			t.Errorf("%v is known", odd)
		}
	}
}
