package postgresql

import (
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// meaning is what a refusal means, in any wording and language.
type meaning int

const (
	meansOther            meaning = iota
	meansPassword                 // the password, or anything about it
	meansNoRole                   // there is no such role
	meansNoLogin                  // the role may not log in
	meansRole                     // one of the two
	meansRules                    // no line of pg_hba.conf lets the account in
	meansRejected                 // a line of pg_hba.conf turns it away
	meansCertificate              // a client certificate is wanted, or not believed
	meansOtherCertificate         // the certificate's name is not the role's
	meansPeer                     // the system account's name is not the role's
	meansOtherMethod              // ident, LDAP and the like said no
	meansFull                     // too many connections to the server
	meansRoleFull                 // too many of this role
	meansDatabaseFull             // too many to this database
	meansPoolFull                 // the pooler has no connection left to its server
	meansStarting
	meansStopping
	meansRecovering
	meansNoStandby // a standby that takes no connections
	meansNotReady  // one of these
	meansNoDatabase
	meansNoConnect     // no right to connect to the database
	meansNotAccepting  // the database takes no connections
	meansNoTLS         // TLS is wanted
	meansPoolerLogin   // the pooler was refused by its server
	meansPoolerMissing // the pooler's server lacks the database
	meansPoolerCut     // the pooler can't reach its server
	meansTimeLimit     // a time limit of the server ended it
	meansNoRight       // a right is missing
)

// refusalSign recognises a refusal: by its SQLSTATE, by the routine of the server that raised it, which is the same
// in every language, by the names in its quotes, and last by its words.
type refusalSign struct {
	state   string // SQLSTATE (PostgreSQL documentation, "PostgreSQL Error Codes")
	routine string // of the server's source; "" for any
	pooler  bool   // raised by a pooler, whose errors have no routine; false for any
	asked   bool   // a password had been asked for, and was right; false for any
	let     bool   // the login had been accepted; false for any
	noUser  bool   // the message does not name the user; false for any
	words   string // in the message, or in its detail, in small letters; with | between some of which one does
	means   meaning
}

// signs are read from the top; the first that fits counts. Where only words tell two refusals apart, those of the
// server's other languages stand beside the English ones.
var signs = []refusalSign{
	// What a pooler says: one SQLSTATE for everything in many versions.
	{pooler: true, let: true, state: "08P01", words: "does not exist", means: meansPoolerMissing},
	{pooler: true, let: true, state: "08P01", words: "authentication failed|role", means: meansPoolerLogin},
	{pooler: true, words: "query_wait_timeout", means: meansPoolFull},
	{pooler: true, words: "server_login_retry|server login has been failing|server login failed",
		means: meansPoolerCut},
	{pooler: true, words: "cannot connect to server|server conn crashed|connect failed", means: meansPoolerCut},
	{pooler: true, words: "idle_timeout|idle timeout|idle transaction|client_login_timeout|query_timeout",
		means: meansTimeLimit},
	{pooler: true, words: "no more connections allowed|max_client_conn|too many", means: meansFull},
	{pooler: true, words: "ssl required|tls required", means: meansNoTLS},
	{pooler: true, words: "no such database", means: meansNoDatabase},
	{pooler: true, state: "08P01", words: "database|does not exist", means: meansPoolerMissing},
	{pooler: true, state: "08P01", words: `authentication failed for user "`, means: meansPoolerLogin},
	{pooler: true, state: "08P01", words: "authentication failed|auth failed|no such user", means: meansPassword},

	{state: "28P01", means: meansPassword},
	{state: "3D000", means: meansNoDatabase},
	{state: "42501", routine: "CheckMyDatabase", means: meansNoConnect},
	{state: "42501", means: meansNoRight},
	{state: "55000", means: meansNotAccepting},
	{state: "53300", routine: "InitializeSessionUserId", means: meansRoleFull},
	{state: "53300", routine: "CheckMyDatabase", means: meansDatabaseFull},
	{state: "53300", means: meansFull},
	{state: "57014", means: meansTimeLimit},
	{state: "57P05", means: meansTimeLimit},
	{state: "25P03", means: meansTimeLimit},
	{state: "57P01", means: meansStopping},
	{state: "57P02", means: meansStopping},
	{state: "57P03", words: "hot standby|hot-standby", means: meansNoStandby},
	{state: "57P03", words: "starting up", means: meansStarting},
	{state: "57P03", words: "shutting down", means: meansStopping},
	{state: "57P03", words: "recover|not yet accepting|not accepting", means: meansRecovering},
	{state: "57P03", means: meansNotReady},

	{state: "28000", routine: "InitializeSessionUserId", asked: true, means: meansNoLogin},
	{state: "28000", routine: "InitializeSessionUserId", words: "not permitted to log in", means: meansNoLogin},
	{
		state: "28000", routine: "InitializeSessionUserId", means: meansNoRole,
		words: "does not exist|existiert nicht|n'existe pas|no existe|não existe|non esiste|не существует|" +
			"nie istnieje|finns inte|mevcut değil|存在しません|不存在|없음|없습니다",
	},
	{state: "28000", routine: "InitializeSessionUserId", means: meansRole},
	{state: "28000", routine: "ClientAuthentication", words: "client certificate", means: meansCertificate},
	{state: "28000", routine: "ClientAuthentication", noUser: true, means: meansCertificate},
	{state: "28000", routine: "ClientAuthentication", words: "rejects", means: meansRejected},
	{state: "28000", routine: "ClientAuthentication", means: meansRules},
	{state: "28000", routine: "auth_failed", words: "certificate|zertifikat|certificat|сертификат|証明書|证书",
		means: meansOtherCertificate},
	{state: "28000", routine: "auth_failed", words: "peer", means: meansPeer},
	{state: "28000", routine: "auth_failed", means: meansOtherMethod},
}

// refusal is the server's message, and when it came.
type refusal struct {
	*pgconn.PgError
	user  string // that the profile has
	asked bool   // a password had been asked for
	let   bool   // the login had been accepted
}

// byPooler reports whether a pooler raised an error, and not PostgreSQL, whose errors name a routine.
func byPooler(e *pgconn.PgError) bool { return e.Routine == "" && e.File == "" }

// means finds the meaning in signs.
func (r refusal) means() meaning {
	text := strings.ToLower(r.Message + "\n" + r.Detail)
	for _, s := range signs {
		switch {
		case s.state != "" && s.state != r.Code,
			s.routine != "" && s.routine != r.Routine,
			s.pooler && !byPooler(r.PgError),
			s.asked && !r.asked,
			s.let && !r.let,
			s.noUser && strings.Contains(r.Message, r.user):
			continue
		}
		if s.words == "" {
			return s.means
		}
		for word := range strings.SplitSeq(s.words, "|") {
			if strings.Contains(text, word) {
				return s.means
			}
		}
	}
	return meansOther
}
