package redis

import (
	"strings"

	"gentleharbor/core/engine/redis/resp"
	"gentleharbor/core/finding"
)

// meaning is what a refusal means.
type meaning int

const (
	meansOther meaning = iota
	meansPasswordWanted
	meansPasswordWrong
	meansNoPasswordSet
	meansProtected
	meansLoading
	meansNoRight
	meansFull
	meansMemoryFull
	meansWritesStopped
	meansReadOnly
	meansLinkDown
	meansMoved
	meansClusterDown
	meansNoDatabase
	meansUnknownCommand
	meansBusy
)

// signs recognise refusals, the surest first. The first word of an error is its code (Redis documentation, "RESP
// simple errors"); many have the code ERR, and differ only in the words after it.
var signs = []struct {
	code  string // the first word
	words string // that stand behind it; "" for any
	means meaning
}{
	{"NOAUTH", "", meansPasswordWanted},
	{"WRONGPASS", "", meansPasswordWrong},
	{"DENIED", "", meansProtected},
	{"LOADING", "", meansLoading},
	{"NOPERM", "", meansNoRight},
	{"OOM", "", meansMemoryFull},
	{"MISCONF", "", meansWritesStopped},
	{"READONLY", "", meansReadOnly},
	{"MASTERDOWN", "", meansLinkDown},
	{"BUSY", "", meansBusy},
	{"MOVED", "", meansMoved},
	{"ASK", "", meansMoved},
	{"CLUSTERDOWN", "", meansClusterDown},
	{"ERR", "invalid password", meansPasswordWrong}, // of servers before 6
	{"ERR", "without any password configured", meansNoPasswordSet},
	{"ERR", "no password is set", meansNoPasswordSet},
	{"ERR", "max number of clients", meansFull},
	{"ERR", "max clients", meansFull},
	{"ERR", "DB index is out of range", meansNoDatabase},
	{"ERR", "invalid DB index", meansNoDatabase},
	{"ERR", "SELECT is not allowed in cluster mode", meansNoDatabase},
	{"ERR", "unknown command", meansUnknownCommand},
	{"ERR", "unknown subcommand", meansUnknownCommand},
}

// means is what a refusal means.
func means(r *resp.Reply) meaning {
	if !r.IsError() {
		return meansOther
	}
	code, words, _ := strings.Cut(r.String(), " ")
	for _, sign := range signs {
		if code == sign.code && strings.Contains(strings.ToLower(words), strings.ToLower(sign.words)) {
			return sign.means
		}
	}
	return meansOther
}

// isRefusal reports whether a reply is an error of a code.
func isRefusal(r *resp.Reply, code string) bool {
	return r.IsError() && (r.String() == code || strings.HasPrefix(r.String(), code+" "))
}

// refusedFirst is the finding for a server that serves nobody now, or nobody from here; nil for one that answers.
func (c *conversation) refusedFirst(r *resp.Reply) *finding.Finding {
	switch means(r) {
	case meansProtected:
		return finding.New(finding.SpeakProtectedMode,
			"the server turns clients of other machines away: it has no password, and protected-mode is on").
			Saw("%s", serverText(r)).
			Advise("on the server: give its default user a password, with requirepass or ACL SETUSER").
			Suggest("gharbor test %s   # once that is done", c.to.Profile)
	case meansLoading:
		return finding.New(finding.SpeakStarting, "the server is starting: it still reads its data from disk").
			Saw("%s", serverText(r)).
			Suggest("gharbor wait %s   # until it is ready", c.to.Profile)
	case meansBusy:
		return finding.New(finding.SpeakBusy, "the server runs a long script, and answers nobody else until it ends").
			Saw("%s", serverText(r)).
			Suggest("gharbor wait %s   # until it has ended", c.to.Profile).
			Advise("to end a script that has written nothing: SCRIPT KILL, as an administrator")
	case meansFull:
		return c.serverFull(r)
	}
	return nil
}

// serverFull is for a server that has as many clients as it takes.
func (c *conversation) serverFull(r *resp.Reply) *finding.Finding {
	found := finding.New(finding.SessionServerFull, "the server has as many clients as it takes (maxclients)").
		Saw("%s", serverText(r)).
		Suggest("gharbor wait %s   # until one of them leaves", c.to.Profile)
	if admin := c.to.Helping(); admin != "" {
		return found.Suggest("gharbor browse %s activity   # who is connected", admin)
	}
	return found.Advise("on the server: look at CLIENT LIST, or raise maxclients")
}
