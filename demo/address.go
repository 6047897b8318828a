package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// address lets a program without a password use a database behind a hop. Another profile, with a program's settings,
// stands for the program, as the demo needs nothing installed.
func address(s *stage) {
	file := func(name, text string) error { return os.WriteFile(filepath.Join(s.home, name), []byte(text), 0o600) }
	run := filepath.Join(s.home, "run") + "/"
	program := fmt.Sprintf("\n[profile.tidebook]\nengine = \"postgresql\"\nsocket = %q\nport = 5432\n"+
		"user = \"tidekeeper\"\ndatabase = \"tides\"\nsecret = \"none\"\n", run)
	s.failed = errors.Join(file("authority.pem", string(s.authority.PEM)), file("known_hosts", s.gate.KnownLine()+"\n"),
		file("profiles.toml", s.tideProfiles()+program))
	s.step("The tide database is behind a jump host, and wants verified TLS and a password.", 0, "test", "tides", "-brief")
	s.step("A local address for it, which logs in for your programs.", 0, "tunnel", "open", "tides",
		"-login", "-socket", run, "-background", "-lifetime", "5m")
	s.step("What a program has in its settings: a socket, a user, no password.", 0, "show", "tidebook")
	s.step("It is in the right database.", 0, "test", "tidebook")
	s.step("The address is for one user: another gets an error, in the server's protocol.", 1, "test", "tidebook",
		"-override", "user=curator")
	s.step("Who opened it sees why.", 0, "tunnel", "show", "tides")
	s.step("Close it.", 0, "tunnel", "close", "tides")
	s.step("Or for only one program, as long as it runs.", 0, "with", "tides", "-login", "--", "printenv", "PGUSER",
		"PGDATABASE")
}
