package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	cryptossh "golang.org/x/crypto/ssh"

	"gentleharbor/standin/ssh"
)

// tideHost is the tide database's name on the station's own network.
const tideHost = "tide-db.internal.example"

func (s *stage) gateKey() string { return filepath.Join(s.home, "gate-key") }

// startHops starts the simulated jump hosts. The gate knows the database and the sluice by their private names; one
// key of keeper opens both.
func (s *stage) startHops() error {
	key, err := ssh.NewKey(s.gateKey())
	if err != nil {
		return err
	}
	accounts := map[string]ssh.Account{"keeper": {Keys: []cryptossh.PublicKey{key}}}
	hosts := map[string]string{tideHost + ":5432": "127.0.0.1:" + strconv.Itoa(s.servers["tides"].Port())}
	if s.sluice, err = ssh.Start(ssh.Config{Accounts: accounts, Hosts: hosts}); err != nil {
		return err
	}
	at := "127.0.0.1:" + strconv.Itoa(s.sluice.Port())
	inner := map[string]string{tideHost + ":5432": hosts[tideHost+":5432"], at: at}
	s.gate, err = ssh.Start(ssh.Config{
		Accounts: accounts,
		Hosts:    inner,
		Banner:   "Saltmarsh Bird Observatory: members only",
	})
	return err
}

// tideProfiles are the profiles of the tide database: behind the gate, and behind
// the gate and the sluice.
func (s *stage) tideProfiles() string {
	hop := func(profile string, server *ssh.Server) string {
		return fmt.Sprintf("\n[[profile.%s.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"keeper\"\nkey  = \"gate-key\"\n",
			profile, server.Port())
	}
	return fmt.Sprintf(`
[profile.tides]
engine   = "postgresql"
host     = %q
port     = 5432
database = "tides"
user     = "tidekeeper"
secret   = "passfile:passwords"
tls      = "verified"
tls-ca   = "authority.pem"
tags     = ["remote"]
`, tideHost) + hop("tides", s.gate) + "\n[profile.tides-inner]\nlike = \"tides\"\n" + hop("tides-inner", s.gate) +
		hop("tides-inner", s.sluice)
}

// tides uses jump hosts to reach a server that has no other route.
func tides(s *stage) {
	gate := strconv.Itoa(s.gate.Port())
	if s.failed = os.WriteFile(filepath.Join(s.home, "authority.pem"), s.authority.PEM, 0o600); s.failed != nil {
		return
	}
	s.step("The tide database has a private name, and a jump host in front.", 0,
		"add", "tides", "-engine", "postgresql", "-host", tideHost, "-database", "tides", "-user", "tidekeeper", "-tls-ca",
		filepath.Join(s.home, "authority.pem"), "-secret", "passfile:"+s.passwords())
	s.step("Its hop: where it is, whose account, which key.", 0, "hop", "add", "tides", "host=127.0.0.1", "port="+gate,
		"user=keeper", "key="+s.gateKey())
	s.step("Nobody knows the hop's host key yet, so nothing is sent to it.", 1, "test", "tides")
	s.step("Compare the fingerprint with the one that its administrator read out, and keep the key.", 0,
		"hop", "pin", "tides", "-fingerprint", cryptossh.FingerprintSHA256(s.gate.HostKey.PublicKey()))
	s.step("Through the hop, verified, and no port was opened here.", 0, "test", "tides")
	s.step("A program gets a plain address, through a tunnel that lives as long as it does.", 0, "with", "tides", "--",
		"printenv", "PGHOST", "PGHOSTADDR", "PGSSLMODE")
	s.step("Or keep a local address for a while, in the background.", 0, "tunnel", "open", "tides", "-background",
		"-lifetime", "5m")
	s.step("It is up, and reconnects by itself.", 0, "tunnel", "list")
	s.step("Close it.", 0, "tunnel", "close", "tides")
	if s.failed != nil {
		return
	}
	known := filepath.Join(s.home, "known_hosts")
	data, err := os.ReadFile(known)
	if s.failed = err; err != nil {
		return
	}
	other := strings.Fields(s.sluice.KnownLine())
	line := strings.Fields(string(data))[0] + " " + other[1] + " " + other[2] + "\n"
	if s.failed = os.WriteFile(known, []byte(line), 0o600); s.failed != nil {
		return
	}
	s.step("One morning the hop shows another key than is known: refused, always.", 1, "test", "tides")
}
