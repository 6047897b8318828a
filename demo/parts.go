package demo

import (
	"fmt"
	"strconv"

	"gentleharbor/core/tlsrule"
)

// first goes from nothing to a profile that is ready.
func first(s *stage) {
	port := strconv.Itoa(s.servers["sightings"].Port())
	s.step("Define the connection once. The password is not in it, only where it is.", 0,
		"add", "sightings", fmt.Sprintf("postgresql://warden@127.0.0.1:%d/sighting", s.closed), "-secret", "passfile:"+s.passwords(), "-tag", "local")
	s.step("Test it. It stops at the stage that fails, and says why.", 1, "test", "sightings")
	s.step("The port was wrong. Mend it, and test again.", 0, "set", "sightings", "port="+port)
	s.step("Now the login works, and the database's name is wrong.", 1, "test", "sightings")
	s.step("Mend that too, and say what must always hold.", 0, "set", "sightings", "database=sightings", "expect.version=>= 14", "expect.tables=sighting,observer")
	s.step("Ready: who one is, where, over which route, and how safely.", 0, "test", "sightings")
	s.step("A second profile takes everything from the first but its user.", 0, "add", "sightings-ro", "-like", "sightings", "-user", "visitor", "-note", "for reports")
	s.step("Every value says where it came from.", 0, "show", "sightings-ro")
}

// certificate comes to trust a server that signs for itself.
func certificate(s *stage) {
	port := strconv.Itoa(s.servers["tides"].Port())
	s.step("A server that is to be verified, with an authority of its own.", 0,
		"add", "tides", "-engine", "postgresql", "-host", "127.0.0.1", "-port", port, "-database", "tides", "-user", "tidekeeper",
		"-tls", "verified", "-tls-name", "tide-db.internal.example", "-secret", "passfile:"+s.passwords())
	s.step("Nobody here trusts that authority yet, so no password is sent.", 1, "test", "tides")
	s.step("Compare the fingerprint with the one that its keeper read out, and keep it.", 0,
		"certificate", "tides", "-save", "-fingerprint", tlsrule.Fingerprint(s.authority.Cert))
	s.step("Verified from now on.", 0, "test", "tides")
}

// refusals shows one answer of the server that has many causes.
func refusals(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("The server gives one answer for many causes, and the finding lists them.", 1, "test", "sightings", "-override", "user=summer-help")
	s.step("An administrator's profile looks the account up.", 1, "test", "sightings", "-override", "user=summer-help", "-as", "sightings-admin")
	s.step("What else the code can mean:", 0, "explain", "login.expired")
}

// faults shows servers that are not well.
func faults(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("The server is there, and not ready.", 1, "test", "starting")
	s.step("The server has no room.", 1, "test", "full")
	s.step("Something accepts and says nothing; the wait is bounded.", 1, "test", "silent", "-timeout", "2s")
	s.step("Something answers that is no database.", 1, "test", "garbage")
}

// moult comes from TCP to the socket that the account is for.
func moult(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("An account is a name and a host. The server gives one answer for many causes.", 1, "test", "moult-tcp")
	s.step("An administrator's profile looks the account up: it is for the socket.", 1, "test", "moult-tcp", "-as", "moult-admin")
	s.step("So come by the socket.", 0, "set", "moult-tcp", "host=", "port=", "socket="+s.socket())
	s.step("Ready: over the socket the server sees 'localhost'.", 0, "test", "moult-tcp")
	s.step("A locked account, which the server admits after the right password only.", 1, "test", "moult-admin", "-override", "user=old-ringer")
	s.step("An expired password, with the very account looked up.", 1, "test", "moult-admin", "-override", "user=summer-help", "-as", "moult-admin")
}

// fleet tests many at once.
func fleet(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("All profiles with a tag, side by side; a warning would fail too.", 0, "test", "-tag", "local", "-strict")
	s.step("One that fails is shown in full, then the table.", 1, "test", "sightings", "moult", "tides", "full")
	s.step("For scripts: nothing but a line for each that fails.", 1, "test", "-tag", "broken", "-quiet", "-timeout", "2s")
	s.step("Wait for servers; what waiting can't mend ends it at once.", 0, "wait", "sightings", "moult")
	s.step("Two profiles, one server?", 0, "compare", "sightings", "sightings-ro")
	s.step("And these two:", 1, "compare", "sightings", "tides")
}
