package hostkey

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

func key(t testing.TB) ssh.PublicKey {
	t.Helper()
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	k, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func line(name string, k ssh.PublicKey) string { return Entry(name, k) }

func files(t *testing.T, texts ...string) *Store {
	t.Helper()
	var paths []string
	for i, text := range texts {
		path := filepath.Join(t.TempDir(), "known")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(i, err)
		}
		paths = append(paths, path)
	}
	return Read(paths...)
}

func TestJudge(t *testing.T) {
	t.Parallel()
	right, wrong := key(t), key(t)
	name := Name("Gate.Saltmarsh.example:2222")
	if name != "[gate.saltmarsh.example]:2222" || Name("gate:22") != "gate" {
		t.Fatal(name)
	}
	hashed := knownhosts.HashHostname(name)
	for _, c := range []struct {
		what  string
		texts []string
		pin   Pin
		want  Outcome
	}{
		{"nothing", nil, Pin{}, Unknown},
		{"a file that is not there", []string{""}, Pin{}, Unknown},
		{"the key", []string{line(name, right)}, Pin{}, Known},
		{"in capitals", []string{line(strings.ToUpper(name), right)}, Pin{}, Known},
		{"among several names", []string{line("other,"+name, right)}, Pin{}, Known},
		{"hashed", []string{line(hashed, right)}, Pin{}, Known},
		{"hashed, another host's", []string{line(knownhosts.HashHostname("x"), right)}, Pin{}, Unknown},
		{"another port's", []string{line("gate.saltmarsh.example", right)}, Pin{}, Unknown},
		{"another key", []string{line(name, wrong)}, Pin{}, Changed},
		{"both in one file", []string{line(name, wrong) + "\n" + line(name, right)}, Pin{}, Known},
		{"each in its file", []string{line(name, right), line(name, wrong)}, Pin{}, Changed},
		{"a pattern", []string{line("[*.example]:2222", right)}, Pin{}, Known},
		{"a pattern that leaves it out", []string{line("[*.example]:2222,!"+name, right)}, Pin{}, Unknown},
		{"revoked", []string{line(name, right), "@revoked * " + strings.SplitN(line("x", right), " ", 2)[1]}, Pin{}, Revoked},
		{"revoked, without the port", []string{line(name, right), "@revoked " + line("gate.saltmarsh.example", right)}, Pin{}, Revoked},
		{"known, without the port", []string{line("gate.saltmarsh.example", right)}, Pin{}, Unknown},
		{"an authority's key as the host's own", []string{"@cert-authority " + line(name, right)}, Pin{}, Unknown},
		{"pinned", nil, Pin{ssh.FingerprintSHA256(right), "x"}, Known},
		{"pinned as a line", nil, Pin{string(ssh.MarshalAuthorizedKey(right)), "x"}, Known},
		{"pinned otherwise", nil, Pin{ssh.FingerprintSHA256(wrong), "x"}, Changed},
		{"pinned otherwise than known", []string{line(name, right)}, Pin{ssh.FingerprintSHA256(wrong), "x"}, Changed},
		{"pinned, and another known", []string{line(name, wrong)}, Pin{ssh.FingerprintSHA256(right), "x"}, Changed},
	} {
		if got := files(t, c.texts...).Judge(name, c.pin, right); got.Outcome != c.want {
			t.Errorf("%s: %+v, want %d", c.what, got, c.want)
		}
	}
}

func TestRead(t *testing.T) {
	t.Parallel()
	k := key(t)
	s := files(t, "# a comment\n\ndunlin knot\n"+line("gate", k)+"\r\n@odd "+line("gate", k)+"\n|1|broken "+strings.SplitN(line("x", k), " ", 2)[1])
	if len(s.Lines) != 2 || s.Lines[0].Number != 4 || len(s.Skipped) != 2 || !strings.Contains(s.Skipped[0], ":3 is not") {
		t.Errorf("%+v %v", s.Lines, s.Skipped)
	}
	if s = Read(t.TempDir()); len(s.Skipped) != 1 {
		t.Errorf("a folder: %v", s.Skipped)
	}
}

// TestOddLines: a revocation counts in any letter case, a mark of the encoding before the first
// line is no part of it, and a certificate that names no host is good for none.
func TestOddLines(t *testing.T) {
	t.Parallel()
	a, b := key(t), key(t)
	if v := files(t, line("gate", a)+"\n@REVOKED "+line("gate", a)).Judge("gate", Pin{}, a); v.Outcome != Revoked {
		t.Errorf("@REVOKED: %+v", v)
	}
	if v := files(t, "\ufeff"+line("gate", a)).Judge("gate", Pin{}, b); v.Outcome != Changed {
		t.Errorf("behind a mark of the encoding: %+v", v)
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	authority, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	for _, principals := range [][]string{{"gate"}, nil} {
		certificate := &ssh.Certificate{Key: a, CertType: ssh.HostCert, ValidPrincipals: principals, ValidBefore: ssh.CertTimeInfinity}
		if err := certificate.SignCert(rand.Reader, authority); err != nil {
			t.Fatal(err)
		}
		want := Known
		if principals == nil {
			want = Certificate
		}
		if v := files(t, "@cert-authority "+line("gate", authority.PublicKey())).Judge("gate", Pin{}, certificate); v.Outcome != want {
			t.Errorf("a certificate for %q: %+v", principals, v)
		}
		if v := files(t, "@cert-authority *ate "+strings.SplitN(line("x", authority.PublicKey()), " ", 2)[1]).Judge("[gate]:2222", Pin{}, certificate); v.Outcome != want {
			t.Errorf("at another port, for %q: %+v", principals, v)
		}
		if shown := Describe(certificate); shown != "ED25519 (certified) "+ssh.FingerprintSHA256(a) {
			t.Errorf("it is shown as %s", shown)
		}
	}
}

// TestAlgorithms: what is known for a host is asked for first, so that a server with several keys shows one that is
// known.
func TestAlgorithms(t *testing.T) {
	t.Parallel()
	all := []string{ssh.CertAlgoED25519v01, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoED25519}
	s := files(t, line("gate", key(t)))
	if got := s.Algorithms("gate", Pin{}, all); !slices.Equal(got, []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA256}) {
		t.Errorf("%v", got)
	}
	s = files(t, "@cert-authority "+line("*", key(t)))
	if got := s.Algorithms("gate", Pin{}, all); got[0] != ssh.CertAlgoED25519v01 {
		t.Errorf("%v", got)
	}
}

func TestAppend(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "known_hosts")
	a, b := key(t), key(t)
	for _, k := range []ssh.PublicKey{a, b} {
		if err := Append(context.Background(), path, line("gate", k)); err != nil {
			t.Fatal(err)
		}
	}
	if s := Read(path); len(s.Lines) != 2 || s.Judge("gate", Pin{}, b).Outcome != Known {
		t.Errorf("%+v", s)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o600 {
		t.Errorf("%v", info.Mode())
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("gate ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH1\n@revoked * x y"), "gate")
	f.Add([]byte("|1|aaa|bbb ssh-rsa AAAA"), "[x]:1")
	f.Fuzz(func(t *testing.T, data []byte, name string) {
		s := &Store{}
		s.parse("known_hosts", data)
		s.Judge(name, Pin{}, fixed)
		s.Algorithms(name, Pin{}, []string{ssh.KeyAlgoED25519})
	})
}

var fixed, _, _, _, _ = ssh.ParseAuthorizedKey([]byte("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA x"))
