package base

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile/syntax"
)

// suggestion is the command that people mean by another word, with NAME for the profile.
type suggestion struct {
	what string // in words
	line string
}

// Words that people try first, by the command that they mean.
const (
	runs    = "connect login sql run exec execute select statement shell cli"
	tests   = "ping check status verify try health"
	looks   = "databases schemas tables columns indexes accounts roles settings sizes activity"
	adds    = "new create define make"
	removes = "delete rm del drop forget"
	lists   = "ls profiles connections all"
	edits   = "change update modify config configure"
	loads   = "restore source insert upload"
)

// suggestFor returns the command that a word means, nil for none. The table is made at the first call: most words are
// commands.
func suggestFor(word string) *suggestion {
	one := func(words, what, line string) *suggestion {
		if isWord(words, word) {
			return &suggestion{what, line}
		}
		return nil
	}
	for _, d := range []*suggestion{
		one(runs, "query runs statements", "gharbor query NAME 'select 1'"),
		one(tests, "test does it", "gharbor test NAME"),
		one(looks, "browse shows them", "gharbor browse NAME "+word),
		one("users", "browse shows them", "gharbor browse NAME accounts"),
		one("grants permissions privileges", "browse shows them", "gharbor browse NAME access"),
		one("describe desc", "browse shows the columns of a table", "gharbor browse NAME columns TABLE"),
		one("processes sessions ps", "browse shows who is connected", "gharbor browse NAME activity"),
		one(adds, "add does it", "gharbor add NAME"),
		one(removes, "remove does it", "gharbor remove NAME"),
		one(lists, "list does it", "gharbor list"),
		one(edits, "set does it", "gharbor set NAME key=value"),
		one("mv", "rename does it", "gharbor rename NAME NEW"),
		one("cp clone duplicate", "copy does it", "gharbor copy NAME NEW"),
		one(loads, "load does it", "gharbor load NAME FILE"),
		one("open forward", "tunnel does it", "gharbor tunnel open NAME"),
		one("scan discover search find", "nearby looks for servers", "gharbor nearby"),
		one("docker containers", "container does it", "gharbor container scan"),
		one("password passwd pass credentials", "secret keeps it", "gharbor secret keep NAME"),
		one("grant revoke unlock expire", "provision does it", "gharbor provision "+word+" NAME -as ADMIN"),
		one("adduser account user", "provision makes it", "gharbor provision make NAME -as ADMIN"),
		one("rotate renew", "secret rotate does it", "gharbor secret rotate NAME"),
		one("log logs tail", "container logs shows it", "gharbor container logs NAME"),
		one("start stop", "container does it", "gharbor container "+word+" NAME"),
		one("diff", "compare does it", "gharbor compare NAME OTHER"),
		one("info details view print", "show does it", "gharbor show NAME"),
	} {
		if d != nil {
			return d
		}
	}
	return nil
}

// meantError suggests the command that a word means; nil for an unknown word. after are the words typed after it: a
// profile's name goes into the suggestion.
func meantError(word string, after []string) error {
	d := suggestFor(strings.ToLower(word))
	if d == nil {
		return nil
	}
	line := d.line
	if len(after) > 0 && syntax.ValidName(after[0]) {
		line = strings.Replace(line, "NAME", clean.Word(after[0]), 1)
	}
	err := fmt.Errorf("no command of that name; %s", d.what)
	if strings.ToLower(line) != line || strings.Contains(line, "key=value") { // something is to fill in
		return Advise(Failure(ExitUsage, err), "run: "+line)
	}
	return Failure(ExitUsage, err, line)
}

// renamed are verbs by their old names.
var renamed = map[string]string{"secret put": "secret keep", "wallet put": "wallet keep"}

// shortFlags are short flags of other programs, each with our flag.
var shortFlags = map[string]string{
	"u": "user", "U": "user", "P": "port", "d": "database", "D": "database", "H": "host", "f": "file", "o": "out",
	"y": "yes", "v": "verbose", "q": "quiet", "c": "file",
}

// passwordFlags are the flags that people try for a password.
const passwordFlags = "p pw W pass passwd password pwd"

// sameVerbs are verbs that mean the same in one group or another.
var sameVerbs = [][]string{
	{"show", "list", "ls", "scan", "status", "info", "inspect", "get", "view", "resolve"},
	{"add", "make", "create", "new", "keep", "save", "open", "start", "run", "up"},
	{"remove", "rm", "delete", "del", "drop", "close", "stop", "down", "lock"},
	{"set", "edit", "change", "update", "modify"},
	{"logs", "log", "tail"},
	{"rotate", "renew", "replace"},
	{"unlock", "enable", "allow"},
	{"grant", "give", "permit"},
	{"revoke", "deny", "take"},
}

// sameVerb is the verb among names that means the same as word; "" for none.
func sameVerb(word string, names []string) string {
	for _, set := range sameVerbs {
		if !slices.Contains(set, strings.ToLower(word)) {
			continue
		}
		for _, verb := range set {
			if slices.Contains(names, verb) {
				return verb
			}
		}
	}
	return ""
}
