package demo

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// compose is a file of the station's services.
const compose = "services:\n  rings:\n    image: mariadb:10.11\n    environment:\n      MARIADB_USER: ringer\n" +
	"      MARIADB_DATABASE: ringing\n      MARIADB_PASSWORD: ${RINGS_PASSWORD:-knot-net}\n"

// passphrase opens the wallet of a demo that stays up.
const passphrase = "seven brown curlews"

// field writes the folder samples with a file of each form that the commands read, a wallet with the visitor's
// password, and a repository with a profile.
func (s *stage) field() error {
	files := samples()
	dump := files["tables.sql"] + files["data/species.sql"] + files["data/observer.sql"]
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(dump))
	z.Close()
	port := s.servers["sightings"].Port()
	at := func(name string) string { return filepath.Join(s.home, "samples", name) }
	repository := filepath.Join(s.home, "field-reports")
	if err := os.MkdirAll(filepath.Join(repository, ".git"), 0o700); err != nil {
		return err
	}
	var failed error
	for path, text := range map[string]string{
		at("dump.sql.gz"):  packed.String(),
		at("report.sql"):   "select place, count(*) from sighting group by 1;\n",
		at(".env"):         fmt.Sprintf("DATABASE_URL=postgresql://warden@127.0.0.1:%d/sightings\n", port),
		at("compose.yaml"): compose,
		filepath.Join(repository, "compose.yaml"): compose,
		at("password"):   wardenPassword + "\n",
		at("token"):      s.provider.Grant() + "\n",
		at("passphrase"): passphrase + "\n",
		filepath.Join(repository, "gharbor.toml"): fmt.Sprintf("format = 1\n\n[profile.reports]\nengine   = \"postgresql\"\n"+
			"host     = \"127.0.0.1\"\nport     = %d\ndatabase = \"sightings\"\nuser     = \"warden\"\n"+
			"secret   = \"passfile:%s\"\n", port, s.passwords()),
	} {
		failed = errors.Join(failed, os.WriteFile(path, []byte(text), 0o600))
	}
	return errors.Join(failed, s.fieldWallet(at("passphrase")))
}

// fieldWallet makes the wallet, a reader of it, and a backup.
func (s *stage) fieldWallet(pass string) error {
	for _, step := range []struct{ input, args string }{
		{"", "wallet create -opening 50ms"},
		{visitorPassword + "\n", "wallet keep visitor -user visitor -bind sightings-ro -secret-stdin"},
		{"", "wallet reader add nightly -out " + filepath.Join(s.home, "nightly.pin")},
		{"", "wallet backup " + filepath.Join(s.home, "samples", "wallet-of-the-laptop.ghw")},
		{wardenPassword + "\n", "wallet keep sightings -bind sightings -secret-stdin"},
	} {
		args := strings.Fields(step.args)
		if !strings.HasPrefix(step.args, "wallet backup") {
			args = append(args, "-passphrase-file", pass)
		}
		if code := s.Command(Step{Home: s.home, Dir: s.home, Input: step.input, Args: args, Quiet: true}); code != 0 {
			return fmt.Errorf("gharbor %s ended with %d", step.args, code)
		}
	}
	return nil
}
