package redis

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestMakeAccount: the command of a container gives the server one account, by the hash of its password, whether the
// password comes in a file or in a variable.
func TestMakeAccount(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("sha256sum"); err != nil {
		t.Skip(err)
	}
	folder := t.TempDir()
	entry := filepath.Join(folder, "docker-entrypoint.sh") // it shows what it is given
	secret := filepath.Join(folder, "secret")
	for path, text := range map[string]string{entry: "#!/bin/sh\necho \"$@\"; cat\n", secret: "knot at\\ \"ebb\"\n"} {
		if err := os.WriteFile(path, []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	sum := sha256.Sum256([]byte(`knot at\ "ebb"`))
	account := " on #" + hex.EncodeToString(sum[:]) + " ~* &* +@all\n"
	for _, c := range []struct {
		variables []string
		want      string
	}{
		{[]string{"REDIS_USER=warden", "REDIS_PASSWORD_FILE=" + secret}, "redis-server -\nuser default off\nuser warden" + account},
		{[]string{`REDIS_PASSWORD=knot at\ "ebb"`}, "redis-server -\nuser default" + account},
	} {
		cmd := exec.Command(recipe.Command[0], recipe.Command[1:]...)
		cmd.Env = append([]string{"PATH=" + folder + ":" + os.Getenv("PATH")}, c.variables...)
		out, err := cmd.CombinedOutput()
		if err != nil || string(out) != c.want {
			t.Errorf("%q, %v, want %q", out, err, c.want)
		}
	}
	if recipe.Tag("7", "2") != "7.2" || recipe.Tag("7", "") != "7" || !strings.Contains(recipe.Check("", "", 0)[1], "NOAUTH") {
		t.Error("the recipe is wrong")
	}
}
