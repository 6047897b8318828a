package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"gentleharbor/standin/oracle"
)

// The archive's two machines. The first is down tonight.
const (
	archiveA = "archive-a.saltmarsh.example"
	archiveB = "archive-b.saltmarsh.example"
)

const curatorPassword = "knot-in-the-net-3"

// startArchive starts the simulated listener, which speaks only TLS.
func (s *stage) startArchive() error {
	secure, err := s.authority.TLS([]string{archiveA, archiveB}, 300*24*time.Hour)
	if err != nil {
		return err
	}
	s.archive, err = oracle.Start(oracle.Config{
		TLS:      secure,
		Resend:   true,
		Services: map[string]oracle.State{"SKEIN": oracle.Up},
		Accounts: []oracle.Account{{User: "CURATOR", Password: curatorPassword}},
		Tables:   []string{"CURATOR.SPECIES", "CURATOR.SIGHTING"},
	})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.home, "curator"), []byte(curatorPassword+"\n"), 0o600)
}

// archiveAddresses are the addresses of the two machines: first the one that is down.
func (s *stage) archiveAddresses() (a, b string) {
	return archiveA + ":" + strconv.Itoa(s.closed), archiveB + ":" + strconv.Itoa(s.archive.Port())
}

// archiveHosts is the station's table of names.
const archiveHosts = "# the archive's machines, as the station's network has them\n[hosts]\n\"" + archiveA +
	"\" = [\"127.0.0.1\"]\n\"" + archiveB + "\" = [\"127.0.0.1\"]\n"

// archiveAliases is the file of aliases of a demo with all profiles.
func (s *stage) archiveAliases() string {
	a, b := s.archiveAddresses()
	return fmt.Sprintf("format = 1\n\n[alias.archive]\nengine    = \"oracle\"\naddresses = [%q, %q]\nservice   = "+
		"\"SKEIN\"\ntls       = \"verified\"\ntls-ca    = \"authority.pem\"\nnote      = \"what is older than ten "+
		"years\"\n\n[alias.long-ago]\nalias = \"archive\"\n\n", a, b) + archiveHosts
}

const archiveProfile = "\n[profile.archive]\nalias    = \"archive\"\nuser     = \"curator\"\nsecret   = " +
	"\"file:curator\"\ntags     = [\"remote\"]\n"

// archive lets a batch account reach a service by its alias.
func archive(s *stage) {
	pass, pin, job := filepath.Join(s.home, "passphrase"), filepath.Join(s.home, "nightly.pin"), filepath.Join(s.home,
		"job")
	ca := filepath.Join(s.home, "authority.pem")
	for path, text := range map[string]string{
		pass:                                  "seven brown curlews\n",
		ca:                                    string(s.authority.PEM),
		filepath.Join(s.home, "aliases.toml"): archiveHosts,
	} {
		if s.failed = os.WriteFile(path, []byte(text), 0o600); s.failed != nil {
			return
		}
	}
	a, b := s.archiveAddresses()
	open := []string{"-passphrase-file", pass}
	s.step("One name for the archive's addresses: two machines, and the service that their listener knows.", 0,
		"alias", "add", "archive", "engine=oracle", "addresses="+a+","+b, "service=SKEIN", "tls=verified", "tls-ca="+ca)
	s.step("Where does that lead? The names are in [hosts], which comes before DNS.", 0, "alias", "resolve",
		"archive")
	s.step("Knock, before anybody logs in. One machine is down tonight; the other knows the service.", 5, "alias",
		"knock", "archive")
	s.step("The profile names the alias, and who logs in.", 0, "add", "archive", "-alias", "archive", "-user", "curator",
		"-secret", "wallet")
	s.step("A wallet for the password,", 0, append([]string{"wallet", "create", "-opening", "100ms"}, open...)...)
	s.stepIn(Step{
		Home:  s.home,
		Dir:   s.home,
		Input: curatorPassword + "\n",
		Args:  append([]string{"wallet", "keep", "archive", "-bind", "alias:archive", "-secret-stdin"}, open...),
	}, "% < curator",
		"which is bound to the alias: where that leads, it may be sent.", 0)
	s.step("The nightly batch job reads it without the passphrase.", 0,
		append([]string{"wallet", "reader", "add", "nightly", "-out", pin}, open...)...)
	if s.failed == nil {
		s.failed = s.batchHome(job, pin)
	}
	s.stepIn(Step{Home: job, Dir: job, Args: []string{"test", "archive"}}, "GHARBOR_HOME="+job+" %",
		"Where one machine is down, the other is used, verified, with nobody at a keyboard.", 0)
	s.step("One morning the service has another name, and the listener does not know the old one.", 0, "alias", "set",
		"archive", "service=SKEIN_OLD")
	s.step("The finding names the line that asked for it.", 1, "test", "archive", "-override",
		"secret=file:"+filepath.Join(s.home, "curator"))
	s.step("One edit fixes it for every profile.", 0, "alias", "set", "archive", "service=SKEIN", "addresses="+b)
	s.stepIn(Step{Home: job, Dir: job, Args: []string{"alias", "used", "archive"}}, "GHARBOR_HOME="+job+" %",
		"Who depends on it? The job's reader can look into the wallet.", 0)
}

// batchHome makes the home of the batch account: its profile, the aliases, and its pin
// file.
func (s *stage) batchHome(job, pin string) error {
	if err := os.Mkdir(job, 0o700); err != nil {
		return err
	}
	aliases, err := os.ReadFile(filepath.Join(s.home, "aliases.toml"))
	if err != nil {
		return err
	}
	text := fmt.Sprintf("[settings]\nwallet = %q\nreader = %q\n\n[profile.archive]\nalias  = \"archive\"\nuser   = "+
		"\"curator\"\nsecret = \"wallet\"\n", filepath.Join(s.home, "wallet.ghw"), pin)
	if err := os.WriteFile(filepath.Join(job, "profiles.toml"), []byte(text), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(job, "aliases.toml"), aliases, 0o600)
}
