package clean

import (
	"strings"
	"testing"
)

// TestCutSecrets reads lines as servers' images write them: what the password was is
// gone, and what explains a failure stays.
func TestCutSecrets(t *testing.T) {
	const secret = "Zx9qWv7Lk2"
	for _, line := range []string{
		"2026-11-24 00:00:00+00:00 [Note] [Entrypoint]: GENERATED ROOT PASSWORD: " + secret,
		"A temporary password is generated for root@localhost: " + secret,
		"ORACLE PASSWORD FOR SYS AND SYSTEM: " + secret,
		"+ mariadb --password=" + secret + " -e 'select 1'",
		"+ mariadb --password " + secret + " -e 'select 1'",
		"ALTER USER root IDENTIFIED BY '" + secret + "'",
		"CREATE USER a IDENTIFIED WITH mysql_native_password BY '" + secret + "'",
		"connecting to postgresql://warden:" + secret + "@db/sightings",
		`{"level":"info","password":"` + secret + `"}`,
		"MYSQL_PWD=" + secret,
		"requirepass " + secret,
		"the password is " + secret,
		"Password = \"" + secret + "\"",
		"api_key: " + secret,
		"token " + secret,
		"Root password set to: " + secret,
		"The password for user root is " + secret,
		"password is not required: " + secret,
		"+ mysql -uroot -p" + secret + " mysql",
		"+ mariadb-admin -h db -u root -p" + secret,
		"Authorization: Bearer " + secret,
		"using bearer " + secret,
	} {
		if cut := CutSecrets([]string{line})[0]; strings.Contains(cut, secret) || !strings.Contains(cut, CutOut) {
			t.Errorf("%q became %q", line, cut)
		}
	}
	for _, line := range []string{
		`FATAL:  password authentication failed for user "warden"`,
		"[ERROR] Access denied for user 'ringer'@'172.17.0.1' (using password: YES)",
		"database system is ready to accept connections",
		"Error: Database is uninitialized and superuser password is not specified.",
		"InnoDB: Cannot open datafile",
	} {
		if cut := CutSecrets([]string{line})[0]; cut != line {
			t.Errorf("%q became %q", line, cut)
		}
	}
	cut := CutSecrets([]string{"Generated password:", "", secret, "ready"})
	if strings.Contains(strings.Join(cut, "\n"), secret) || cut[3] != "ready" {
		t.Errorf("a password on a line of its own: %q", cut)
	}
	if cut := CutSecrets([]string{"echo " + secret}, secret)[0]; strings.Contains(cut, secret) {
		t.Errorf("a known one: %q", cut)
	}
}
