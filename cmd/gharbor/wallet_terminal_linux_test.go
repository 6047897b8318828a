package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// testWalletOnTerminal: passphrases and secrets are typed without echo, a new one
// twice; what is disclosed is the only secret on the screen.
func testWalletOnTerminal(t *testing.T) {
	p, _ := standin(t, birds())
	s := p.OnTerminal("wallet", "create", "-opening", "1ms").Expect("a new passphrase for the wallet (not shown): ")
	if s.Echoes() {
		t.Error("the passphrase is echoed")
	}
	s.Type(passphrase + "\n").Expect("again, ").Type("another one\n").Expect("they differ; try again").Type(passphrase + "\n")
	for strings.Count(s.Text(), "again, ") < 2 {
		s.Expect("again, ")
	}
	text := s.Type(passphrase + "\n").Expect("made: wallet").Ends(0)
	if strings.Contains(text, "brown") {
		t.Errorf("the terminal shows\n%s", text)
	}
	s = p.OnTerminal("wallet", "keep", "sightings").Expect("passphrase of the wallet").Type(passphrase + "\n").Expect(
		"the secret of sightings (not shown)")
	text = s.Type("dunlin\n").Expect("again, ").Type("dunlin\n").Expect("saved: entry sightings").Ends(0)
	if strings.Contains(text, "dunlin") {
		t.Errorf("the terminal shows\n%s", text)
	}
	p.OnTerminal("wallet", "disclose", "sightings").Expect("passphrase").Type(passphrase + "\n").Expect("dunlin").Ends(0)
	p.OnTerminal("wallet", "keep", "sightings").Expect("passphrase").Type(passphrase + "\n").Expect(
		"already. Replace it? [y/N]").Type("n\n").Expect("nothing was changed").Ends(2)
	p.OnTerminal("wallet", "remove", "sightings").Expect("passphrase").Type(passphrase + "\n").Expect("and the secrets? [y/N]").Type("n\n").Ends(2)

	// The test asks for the passphrase, and again after a slip.
	p.OK("set", "sightings", "secret=wallet")
	s = p.OnTerminal("test", "sightings").Expect("passphrase of the wallet").Type("wrong one\n")
	for strings.Count(s.Text(), "passphrase of the wallet") < 2 {
		s.Expect("passphrase of the wallet")
	}
	s.Type(passphrase + "\n").Expect("ready").Ends(0)
	// One question serves many profiles.
	p.OK("copy", "sightings", "again")
	s = p.OnTerminal("test", "sightings", "again").Expect("passphrase").Type(passphrase + "\n")
	if text := s.Ends(0); strings.Count(text, "passphrase of the wallet") != 1 {
		t.Errorf("%s", text)
	}
	text = p.OnTerminal("export", "sightings", "-as", "url", "-with-secret").Expect(
		"write the password of sightings, on this terminal? [y/N]").Type("y\n").Expect("passphrase").Type(passphrase + "\n").Expect("warden:dunlin@").Ends(0)
	_ = text
	p.OnTerminal("export", "sightings", "-as", "url", "-with-secret").Expect("[y/N]").Type("\n").Expect("nothing was written").Ends(2)
	out := filepath.Join(t.TempDir(), "out")
	p.OnTerminal("export", "sightings", "-as", "dotenv", "-with-secret", "-out", out).Expect("to " + out).Type("y\n").Expect("passphrase").Type(passphrase + "\n").Expect("written: ").Ends(0)
	if data, err := os.ReadFile(out); err != nil || !strings.Contains(string(data), "PGPASSWORD='dunlin'") {
		t.Errorf("%s %v", data, err)
	}
	p.OnTerminal("with", "sightings", "--", "sh", "-c", "stty size; read line; echo got $line").Expect("passphrase").Type(passphrase + "\n").Expect("50 100").Type("keys\n").Expect("got keys").Ends(0)
	s = p.OnTerminal("with", "sightings", "--", "sh", "-c", "trap 'echo stopping; exit 4' INT; echo begin; while "+
		":; do sleep 0.05; done").Expect("passphrase").Type(passphrase + "\n").Expect("begin")
	if text := s.Type("\x03").Ends(4); strings.Count(text, "stopping") != 1 {
		t.Errorf("the program was interrupted %d times:\n%s", strings.Count(text, "stopping"), text)
	}
	p.OnTerminal("secret", "keep", "sightings").Expect("passphrase").Type(passphrase + "\n").Expect(
		"the password of warden for sightings").Type("knot\n").Expect("again, ").Type("knot\n").Expect("changed: entry sightings").Ends(0)
}

// TestVouchOnTerminal: what would be used is on the screen before the question.
func TestVouchOnTerminal(t *testing.T) {
	t.Parallel()
	p, server := standin(t, birds())
	project(t, p, fmt.Sprintf("[profile.counts]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = "+
		"\"warden\"\ndatabase = \"sightings\"\nsecret = \"env:DUNLIN\"\n", server.Port()))
	p.OnTerminal("vouch").Expect("env:DUNLIN").Expect("allow this profile to use that? [y/N]").Type("\n").Expect("nothing was approved").Ends(0)
	p.Test("counts").Ends(t, "profile", "fail", "profile.not-vouched")
	p.OnTerminal("vouch").Expect("[y/N]").Type("y\n").Expect("approved: counts").Ends(0)
	p.OK("test", "counts")
	file := filepath.Join(p.Dir, ".env")
	p.Write(file, "DATABASE_URL=postgres://warden@h.example/x\n")
	p.OnTerminal("import", "dotenv", file).Expect("Add its profiles to your own? [y/N]").Type("n\n").Expect("nothing was added").Ends(2)
	bin := filepath.Join(filepath.Dir(p.Home), "bin")
	os.Mkdir(bin, 0o755)
	p.Setenv("PATH", os.Getenv("PATH")+":"+bin)
	p.OnTerminal("shortcut", "sightings", "count-birds", "--", "true").Expect("into which folder [" + bin + "]").Type("\n").Expect("made: " + bin).Ends(0)
	testkit.NoSecretIn(t, bin, nil, "dunlin")
}
