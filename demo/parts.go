package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"gentleharbor/core/engines"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/tlsrule"
	"gentleharbor/core/vouch"
)

// first goes from nothing to a profile that is ready.
func first(s *stage) {
	port := strconv.Itoa(s.servers["sightings"].Port())
	s.step("Define the connection once. The password is not in it, only where it is.", 0,
		"add", "sightings", fmt.Sprintf("postgresql://warden@127.0.0.1:%d/sighting", s.closed), "-secret",
		"passfile:"+s.passwords(), "-tag", "local")
	s.step("Test it. It stops at the stage that fails, and says why.", 1, "test", "sightings")
	s.step("The port was wrong. Fix it, and test again.", 0, "set", "sightings", "port="+port)
	s.step("Now the login works, and the database's name is wrong.", 1, "test", "sightings")
	s.step("Fix that too, and say what must always hold.", 0, "set", "sightings", "database=sightings",
		"expect.version=>= 14", "expect.tables=sighting,observer")
	s.step("Ready: who you are, where, over which route, and how safely.", 0, "test", "sightings")
	s.step("A second profile takes everything from the first but its user.", 0, "add", "sightings-ro", "-like",
		"sightings", "-user", "visitor", "-note", "for reports")
	s.step("Every value says where it came from.", 0, "show", "sightings-ro")
}

// certificate trusts a server with a self-signed certificate.
func certificate(s *stage) {
	port := strconv.Itoa(s.servers["tides"].Port())
	s.step("A server whose certificate must be verified, by its own authority.", 0,
		"add", "tides", "-engine", "postgresql", "-host", "127.0.0.1", "-port", port, "-database", "tides", "-user",
		"tidekeeper",
		"-tls", "verified", "-tls-name", "tide-db.internal.example", "-secret", "passfile:"+s.passwords())
	s.step("Nobody here trusts that authority yet, so no password is sent.", 1, "test", "tides")
	s.step("Compare the fingerprint with the one that its administrator read out, and keep it.", 0,
		"certificate", "tides", "-save", "-fingerprint", tlsrule.Fingerprint(s.authority.Cert))
	s.step("Verified from now on.", 0, "test", "tides")
}

// refusals shows one error of the server that has many causes.
func refusals(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("The server gives one answer for many causes, and the finding lists them.", 1, "test", "sightings",
		"-override", "user=summer-help")
	s.step("An administrator's profile looks the account up.", 1, "test", "sightings", "-override", "user=summer-help",
		"-as", "sightings-admin")
	s.step("It can set that right too: what it sends is shown first.", 0, "provision", "expire", "sightings", "-never",
		"-override", "user=summer-help", "-as", "sightings-admin", "-yes")
	s.step("What else the code can mean:", 0, "explain", "login.expired")
}

// showProvision makes what a new profile needs, changes its password, and removes all of it.
func showProvision(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	const admin = "sightings-admin"
	s.step("A profile for an account and a database that do not exist yet. Its password will be in a file.", 0, "add",
		"newcount", "-like", "sightings", "-user", "newcounter", "-database", "newcount", "-secret",
		"file:"+filepath.Join(s.home, "newcounter"))
	s.step("What would make it ready? Nothing is sent.", 0, "provision", "make", "newcount", "-as", admin, "-dry-run")
	s.step("Make it. On a terminal you are asked; the password is sent as a hash.", 0, "provision", "make", "newcount",
		"-as", admin, "-yes")
	s.step("Once more: all of it is there.", 0, "provision", "make", "newcount", "-as", admin)
	s.step("A new password, at the server and here, as one step.", 0, "secret", "rotate", "newcount", "-yes")
	s.step("Remove it again. On a terminal you type the name of the database.", 0, "provision", "drop", "newcount",
		"-as", admin, "-yes")
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

// showSocketMove changes from TCP to the socket that the account is for.
func showSocketMove(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("An account is a name and a host. The server gives one answer for many causes.", 1, "test", "moult-tcp")
	s.step("An administrator's profile looks the account up: it is for the socket.", 1, "test", "moult-tcp", "-as",
		"moult-admin")
	s.step("So use the socket.", 0, "set", "moult-tcp", "host=", "port=", "socket="+s.socket())
	s.step("Ready: over the socket the server sees 'localhost'.", 0, "test", "moult-tcp")
	s.step("A locked account, which the server admits after the right password only.", 1, "test", "moult-admin",
		"-override", "user=old-ringer")
	s.step("An expired password: the administrator's profile looks the account up.", 1, "test", "moult-admin", "-override",
		"user=summer-help", "-as", "moult-admin")
}

// fleet tests many at once.
func fleet(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("All profiles with a tag, side by side; a warning would fail too.", 0, "test", "-tag", "local", "-strict")
	s.step("One that fails is shown in full, then the table.", 1, "test", "sightings", "moult", "tides", "full")
	s.step("For scripts: nothing but a line for each that fails.", 1, "test", "-tag", "broken", "-quiet", "-timeout", "2s")
	s.step("Wait for servers; what waiting can't fix ends it at once.", 0, "wait", "sightings", "moult")
	s.step("Two profiles, one server?", 0, "compare", "sightings", "sightings-ro")
	s.step("And these two:", 1, "compare", "sightings", "tides")
}

// wallet puts a password into a wallet, which a scheduled job can read.
func wallet(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	pass, pin, job := filepath.Join(s.home, "passphrase"), filepath.Join(s.home, "nightly.pin"), filepath.Join(s.home,
		"job")
	if s.failed = os.WriteFile(pass, []byte("seven brown curlews\n"), 0o600); s.failed != nil {
		return
	}
	open := []string{"-passphrase-file", pass}
	s.step("A wallet. On a terminal the passphrase is typed; a demo has a file for it.", 0,
		append([]string{"wallet", "create", "-opening", "100ms"}, open...)...)
	s.stepIn(Step{
		Home:  s.home,
		Dir:   s.home,
		Input: wardenPassword + "\n",
		Args:  append([]string{"wallet", "keep", "sightings", "-secret-stdin"}, open...),
	}, "% < warden",
		"The password goes in, bound to where the profile of that name leads.", 0)
	s.step("The profile takes it from there.", 0, "set", "sightings", "secret=wallet")
	s.step("A scheduled job needs it without the passphrase: a reader.", 0,
		append([]string{"wallet", "reader", "add", "nightly", "-out", pin}, open...)...)
	if s.failed = s.jobHome(job, pin); s.failed != nil {
		return
	}
	inJob := func(why string, want int, args ...string) {
		s.stepIn(Step{Home: job, Dir: job, Args: args}, "GHARBOR_HOME="+job+" %", why, want)
	}
	inJob("The job's account has a home of its own, with the pin file. It tests,", 0, "test", "sightings", "-quiet")
	inJob("and runs its program. The password is neither in an argument nor in the environment.", 0, "with", "sightings",
		"--", "printenv", "PGUSER", "PGPASSFILE", "GHARBOR_PROFILE")
	inJob("It can read the wallet, and not change it.", 4, "wallet", "keep", "mine", "-generate", "32")
	inJob("A profile that leads elsewhere gets nothing.", 1, "test", "sightings", "-override", "host=localhost")
	s.step("What is there, never what it is.", 0, append([]string{"wallet", "list"}, open...)...)
	s.step("And what could be safer?", 0, append([]string{"audit"}, open...)...)
}

// jobHome makes the home of a scheduled job that is a reader of the wallet.
func (s *stage) jobHome(job, pin string) error {
	if err := os.Mkdir(job, 0o700); err != nil {
		return err
	}
	text := fmt.Sprintf("[settings]\nwallet = %q\nreader = %q\n\n[profile.sightings]\nengine   = \"postgresql\"\nhost   "+
		"  = \"127.0.0.1\"\nport     = %d\ndatabase = \"sightings\"\nuser     = \"warden\"\nsecret   = \"wallet\"\n",
		filepath.Join(s.home, "wallet.ghw"), pin, s.servers["sightings"].Port())
	return os.WriteFile(filepath.Join(job, "profiles.toml"), []byte(text), 0o600)
}

// project opens a repository with profiles in it.
func project(s *stage) {
	root := filepath.Join(s.home, "field-reports")
	if s.failed = os.MkdirAll(filepath.Join(root, ".git"), 0o755); s.failed != nil {
		return
	}
	text := func(user string) error {
		return os.WriteFile(filepath.Join(root, "gharbor.toml"),
			[]byte(fmt.Sprintf("format = 1\n\n[profile.counts]\nengine   = \"postgresql\"\nhost     = \"127.0.0.1\"\nport     "+
				"= %d\ndatabase = \"sightings\"\nuser     = %q\nsecret   = \"passfile:%s\"\n",
				s.servers["sightings"].Port(), user, s.passwords())), 0o644)
	}
	if s.failed = text("warden"); s.failed != nil {
		return
	}
	in := func(why string, want int, args ...string) {
		s.stepIn(Step{Home: s.home, Dir: root, Args: args}, "", why, want)
	}
	in("A repository was cloned, and has a gharbor.toml. Its profiles can be seen,", 0, "list")
	in("and nothing is dialled, read or run for them.", 1, "test", "counts", "-quiet")
	in("What would it use? On a terminal, the question follows.", 2, "vouch", "counts")
	in("In CI nobody can be asked: the hash that somebody saw is compared.", 0, "vouch", "counts", "-expect",
		s.usesHash(root))
	in("Now it is used.", 0, "test", "counts", "-quiet")
	if s.failed != nil {
		return
	}
	if s.failed = text("registrar"); s.failed != nil {
		return
	}
	in("Somebody changes the account. It is no longer what you approved.", 1, "test", "counts")
}

// usesHash is the hash that vouch shows for the profile counts.
func (s *stage) usesHash(root string) string {
	place, _ := profile.FindProject(root)
	file, err := profile.LoadProject(schema.New(engines.All()), place)
	if err != nil {
		s.failed = err
		return ""
	}
	p := resolve.Resolve(file, file.Lookup("counts"), nil, resolve.Environment{Home: s.home})
	return vouch.CombinedHash([]vouch.Uses{vouch.FindUses(p.ProjectProfile())})
}
