//go:build unix

package testkit

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Call is one call of ssh by a regression script of OpenSSH.
type Call struct {
	Words  []string // the arguments
	Folder string   // the script's files, as they were then
	Asked  bool     // for the resolved view
	Out    string   // that view
	Code   int      // the exit code
}

// SSHCalls runs a regression script of OpenSSH, such as "cfginclude.sh", with an ssh that only notes each call, and the
// system's own one for the resolved view. Files are what stands in the script's folder at its start.
func SSHCalls(t testing.TB, script string, files map[string]string) (calls []Call) {
	t.Helper()
	script = Source(t, "openssh/regress/"+script)
	root, _, err := suites()
	if err != nil {
		t.Fatal(err)
	}
	real, err := exec.LookPath("ssh")
	if err != nil {
		t.Skip("the system's SSH client judges here: ", err)
	}
	objects, record := t.TempDir(), t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(objects, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	ssh := filepath.Join(root, "scripts", "suites", "record-ssh")
	const helpers = `verbose() { :; }; trace() { :; }; fail() { :; }; fatal() { exit 1; }; start_sshd() { :; }; `
	cmd := exec.Command("sh", "-c", helpers+`. "$0"`, script)
	cmd.Dir = objects
	cmd.Env = append(os.Environ(), "OBJ="+objects, "RECORD="+record, "REAL="+real, "SSH="+ssh, "REAL_SSH="+ssh,
		"PORT=4242", "OPENSSL_BIN=openssl", "SSH_KEYTYPES=ssh-ed25519", "USER=keeper", "DATA=data")
	if out, err := cmd.CombinedOutput(); err != nil && len(out) > 0 {
		t.Logf("%s ended with %v: %s", script, err, out)
	}
	folders, err := filepath.Glob(filepath.Join(record, "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, folder := range folders {
		words, err := os.ReadFile(filepath.Join(folder, "words"))
		if err != nil {
			t.Fatal(err)
		}
		c := Call{Words: strings.Split(strings.TrimSuffix(string(words), "\n"), "\n"), Folder: filepath.Join(folder, "obj")}
		if code, err := os.ReadFile(filepath.Join(folder, "code")); err == nil {
			out, err := os.ReadFile(filepath.Join(folder, "out"))
			if err != nil {
				t.Fatal(err)
			}
			c.Asked, c.Out = true, string(out)
			fmt.Sscan(string(code), &c.Code)
		}
		calls = append(calls, c)
	}
	return calls
}
