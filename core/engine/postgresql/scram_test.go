package postgresql

import (
	"encoding/base64"
	"strings"
	"testing"

	"gentleharbor/core/secret"
)

// TestVerifier compares with the example of RFC 7677, section 3: its keys follow from the salt, the count and the
// password.
func TestVerifier(t *testing.T) {
	salt, _ := base64.StdEncoding.DecodeString("W22ZaJ0SNY7soEsUEjb6gQ==")
	pencil := secret.NewValue("pencil")
	want := "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU="
	if got := verifierOf(pencil, salt, 4096); got != want {
		t.Errorf("the verifier is\n%s, want\n%s", got, want)
	}
	if a, b := scramVerifier(pencil), scramVerifier(pencil); a == b || !keeps(a, "user", pencil) {
		t.Error("two verifiers of one password are the same, or are not known again")
	}
	if !keeps(scramVerifier(secret.NewValue("²")), "user", secret.NewValue("2")) {
		t.Error("a password is not prepared as the server prepares it")
	}
	for _, c := range []struct {
		stored, password string
		want             bool
	}{
		{want, "pencil", true}, {want, "pencils", false}, {"", "", false}, {"md5", "pencil", false},
		{"md532ddb1a7f4eeee17a1dcc2c5c32fec69", "no", false},
		{"SCRAM-SHA-256$99999999999:W22ZaJ0SNY7soEsUEjb6gQ==$x:y", "pencil", false},
		{"SCRAM-SHA-256$0:W22ZaJ0SNY7soEsUEjb6gQ==$x:y", "pencil", false},
		{"SCRAM-SHA-256$4096:!$x:y", "pencil", false}, {"SCRAM-SHA-1$1:x$y:z", "pencil", false},
	} {
		if keeps(c.stored, "user", secret.NewValue(c.password)) != c.want {
			t.Errorf("%s keeps %s: %v", c.stored, c.password, !c.want)
		}
	}
	if keptMethod(want) != methodSCRAM || keptMethod("md5x") != methodMD5 || keptMethod("x") != "" || strings.Contains(scramVerifier(pencil), "pencil") {
		t.Error("the method is not known by the stored form")
	}
}
