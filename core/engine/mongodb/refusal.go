package mongodb

import (
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// refusal is a server's error: its number, that number's name, and its message.
type refusal struct {
	number  int64
	name    string
	message string
}

func (r *refusal) Error() string { return r.message }

// refusalOf is the error in an answer, nil for one without.
func refusalOf(answer bson.Raw) *refusal {
	value, err := answer.LookupErr("ok")
	if err == nil {
		if n, ok := value.AsFloat64OK(); ok && n == 1 {
			return nil
		}
		if is, ok := value.BooleanOK(); ok && is {
			return nil
		}
	}
	r := &refusal{name: text(answer, "codeName"), message: text(answer, "errmsg")}
	r.number, _ = number(answer, "code")
	if r.message == "" {
		r.message = "the server says that it failed, and not why"
	}
	return r
}

// text is the refusal for a report.
func (r *refusal) text() string {
	code := clean.Line(r.name, 60)
	if r.number != 0 {
		code = fmt.Sprintf("%s, code %d", code, r.number)
	}
	return clean.Quote(clean.Line(r.message, 300)) + " (" + code + ")"
}

// meaning is what a refusal means.
type meaning int

const (
	meansOther meaning = iota
	meansLogin
	meansNoRight
	meansNoMethod
	meansUnknownCommand
	meansStarting
	meansStopping
	meansNotPrimary
	meansTimeLimit
	meansNoLogin
	meansFull
)

// signs are the meanings of the server's error numbers (MongoDB source, error_codes.yml). Numbers are the surest
// sign: the messages change from version to version.
var signs = map[int64]meaning{
	18:    meansLogin,          // AuthenticationFailed
	11:    meansLogin,          // UserNotFound
	8000:  meansLogin,          // AtlasError, which hosts of servers answer with
	13:    meansNoRight,        // Unauthorized
	33:    meansLogin,          // of before version 4
	334:   meansNoMethod,       // MechanismUnavailable
	2:     meansOther,          // BadValue
	59:    meansUnknownCommand, // CommandNotFound
	91:    meansStopping,       // ShutdownInProgress
	11600: meansStopping,       // InterruptedAtShutdown
	10107: meansNotPrimary,     // NotWritablePrimary
	13435: meansNotPrimary,     // NotPrimaryNoSecondaryOk
	11602: meansNotPrimary,     // InterruptedDueToReplStateChange
	189:   meansNotPrimary,     // PrimarySteppedDown
	13436: meansStarting,       // NotPrimaryOrSecondary: it starts, or recovers
	94:    meansStarting,       // NotYetInitialized
	50:    meansTimeLimit,      // MaxTimeMSExpired
	262:   meansTimeLimit,      // ExceededTimeLimit
	20:    meansNoLogin,        // IllegalOperation
	391:   meansNoRight,        // ReauthenticationRequired
	462:   meansFull,           // IngressRequestRateLimitExceeded
}

func (r *refusal) means() meaning { return signs[r.number] }

// notReady is the finding for a server that serves nobody now; nil for one that does.
func (c *conversation) notReady(r *refusal) *finding.Finding {
	switch r.means() {
	case meansStarting:
		return finding.New(finding.SpeakStarting, "the server is starting, or catches up with its set").Saw("%s", r.text()).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile)
	case meansStopping:
		return finding.New(finding.SpeakStopping, "the server is stopping").Saw("%s", r.text()).
			Suggest("gharbor wait %s   # if it only restarts", c.to.Profile)
	case meansFull:
		return finding.New(finding.SessionServerFull, "the server takes no more requests now").Saw("%s", r.text()).
			Suggest("gharbor wait %s", c.to.Profile)
	}
	return nil
}
