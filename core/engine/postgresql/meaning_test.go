package postgresql

import (
	"strings"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

// TestSigns: refusals as servers and poolers send them, in several languages. Each sign of the table is met.
func TestSigns(t *testing.T) {
	auth := func(code, routine, message string) refusal {
		return refusal{PgError: &pgconn.PgError{Code: code, Routine: routine, File: "auth.c", Message: message}, user: "warden"}
	}
	pooler := func(message string, let bool) refusal {
		return refusal{PgError: &pgconn.PgError{Code: "08P01", Message: message}, user: "warden", let: let}
	}
	asked := func(r refusal) refusal { r.asked = true; return r }
	detailed := func(r refusal, detail string) refusal { r.Detail = detail; return r }
	met := make(map[meaning]bool)
	for i, c := range []struct {
		r    refusal
		want meaning
	}{
		{auth("28P01", "auth_failed", `password authentication failed for user "warden"`), meansPassword},
		{auth("28P01", "auth_failed", "Passwort-Authentifizierung für Benutzer »warden« fehlgeschlagen"), meansPassword},
		{auth("3D000", "InitPostgres", `database "x" does not exist`), meansNoDatabase},
		{auth("42501", "CheckMyDatabase", `permission denied for database "x"`), meansNoConnect},
		{auth("42501", "aclcheck_error", "permission denied for function pg_is_in_recovery"), meansNoRight},
		{auth("55000", "CheckMyDatabase", `database "x" is not currently accepting connections`), meansNotAccepting},
		{auth("53300", "InitializeSessionUserId", `too many connections for role "warden"`), meansRoleFull},
		{auth("53300", "CheckMyDatabase", `too many connections for database "x"`), meansDatabaseFull},
		{auth("53300", "InitProcess", "sorry, too many clients already"), meansFull},
		{auth("57014", "ProcessInterrupts", "canceling statement due to statement timeout"), meansTimeLimit},
		{auth("57P05", "ProcessInterrupts", "terminating connection due to idle-session timeout"), meansTimeLimit},
		{auth("25P03", "ProcessInterrupts", "terminating connection due to idle-in-transaction timeout"), meansTimeLimit},
		{auth("57P01", "ProcessInterrupts", "terminating connection due to administrator command"), meansStopping},
		{auth("57P02", "quickdie", "terminating connection because of crash of another server process"), meansStopping},
		{auth("57P03", "ProcessStartupPacket", "the database system is starting up"), meansStarting},
		{auth("57P03", "ProcessStartupPacket", "the database system is shutting down"), meansStopping},
		{auth("57P03", "ProcessStartupPacket", "the database system is in recovery mode"), meansRecovering},
		{detailed(auth("57P03", "ProcessStartupPacket", "the database system is not accepting connections"), "Hot standby mode is disabled."), meansNoStandby},
		{detailed(auth("57P03", "ProcessStartupPacket", "das Datenbanksystem nimmt keine Verbindungen an"), "Hot-Standby-Modus ist deaktiviert."), meansNoStandby},
		{auth("57P03", "ProcessStartupPacket", "das Datenbanksystem startet"), meansNotReady},
		{asked(auth("28000", "InitializeSessionUserId", "Rolle »warden« hat keine Berechtigung zum Einloggen")), meansNoLogin},
		{auth("28000", "InitializeSessionUserId", `role "warden" is not permitted to log in`), meansNoLogin},
		{auth("28000", "InitializeSessionUserId", `role "warden" does not exist`), meansNoRole},
		{auth("28000", "InitializeSessionUserId", "Rolle »warden« existiert nicht"), meansNoRole},
		{auth("28000", "InitializeSessionUserId", "le rôle « warden » n'existe pas"), meansNoRole},
		{auth("28000", "InitializeSessionUserId", "ο ρόλος «warden»"), meansRole},
		{auth("28000", "ClientAuthentication", "connection requires a valid client certificate"), meansCertificate},
		{auth("28000", "ClientAuthentication", "Verbindung erfordert ein gültiges Client-Zertifikat"), meansCertificate},
		{auth("28000", "ClientAuthentication", `no pg_hba.conf entry for host "127.0.0.1", user "warden", database "x", no encryption`), meansRules},
		{auth("28000", "ClientAuthentication", "kein pg_hba.conf-Eintrag für Host »127.0.0.1«, Benutzer »warden«"), meansRules},
		{auth("28000", "ClientAuthentication", `pg_hba.conf rejects connection for host "127.0.0.1", user "warden"`), meansRejected},
		{auth("28000", "auth_failed", `certificate authentication failed for user "warden"`), meansOtherCertificate},
		{auth("28000", "auth_failed", "Zertifikatauthentifizierung für Benutzer »warden« fehlgeschlagen"), meansOtherCertificate},
		{auth("28000", "auth_failed", `Peer authentication failed for user "warden"`), meansPeer},
		{auth("28000", "auth_failed", `LDAP authentication failed for user "warden"`), meansOtherMethod},
		{auth("XX000", "x", "something else"), meansOther},

		{pooler("no such database: sightins", false), meansNoDatabase},
		{pooler("SASL authentication failed", false), meansPassword},
		{pooler("auth failed", false), meansPassword},
		{pooler("no such user: warden", false), meansPassword},
		{pooler("no more connections allowed (max_client_conn)", false), meansFull},
		{pooler(`database "nosuchdb" does not exist`, true), meansPoolerMissing},
		{pooler(`database "nosuchdb" does not exist`, false), meansPoolerMissing},
		{pooler(`password authentication failed for user "warden"`, true), meansPoolerLogin},
		{pooler(`password authentication failed for user "warden"`, false), meansPoolerLogin},
		{pooler(`role "x" is not permitted to log in`, true), meansPoolerLogin},
		{pooler("query_wait_timeout", true), meansPoolFull},
		{pooler("server login has been failing, try again later (server_login_retry)", true), meansPoolerCut},
		{pooler("pgbouncer cannot connect to server", true), meansPoolerCut},
		{pooler("client_idle_timeout", true), meansTimeLimit},
		{pooler("SSL required", false), meansNoTLS},
		{pooler("something else", false), meansOther},
	} {
		if got := c.r.means(); got != c.want {
			t.Errorf("%d, %q is taken for %d, want %d", i, c.r.Message, got, c.want)
		}
		met[c.want] = true
	}
	for _, s := range signs {
		if !met[s.means] {
			t.Errorf("no case comes to the meaning %d of the sign %+v", s.means, s)
		}
		if s.words != strings.ToLower(s.words) {
			t.Errorf("the words of %+v are compared in small letters", s)
		}
	}
}

// TestSeenFrom: the client's address as the server sees it.
func TestSeenFrom(t *testing.T) {
	for message, want := range map[string]string{
		`no pg_hba.conf entry for host "10.0.0.3", user "warden", database "x", no encryption`: "10.0.0.3",
		`no pg_hba.conf entry for host "[local]", user "warden", database "x"`:                 "[local]",
		"kein pg_hba.conf-Eintrag für Host »::1«, Benutzer »warden«":                           "::1",
		`no entry for user "warden"`: "", "no quotes": "", `"`: "",
	} {
		if got := seenFrom(message); got != want {
			t.Errorf("%s: %q", message, got)
		}
	}
}
