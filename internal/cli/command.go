// Package cli is the commands: one file each, which turns flags into a call of
// the core and its result into output. A command is a struct value; help is
// rendered from it. Commands return errors, and Run alone turns an error into
// an exit code.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/find"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/render"
)

// World is what the program runs in: its streams and its environment.
type World struct {
	Stdin  io.Reader
	Stdout io.Writer
	Stderr io.Writer
	Lookup func(name string) (string, bool) // environment variables
	// Engines are the engines that the program knows.
	Engines engine.Set
	// Dir is the working folder, "" for the process's own.
	Dir string
	// Environ is the whole environment as the program was given it, "NAME=value".
	Environ func() []string

	// Interrupts makes a context that Ctrl-C ends. A command that is over in
	// milliseconds does without: the system ends it, and its start is quicker.
	// nil where the context given to Run is one already.
	Interrupts func(context.Context) (context.Context, context.CancelFunc)

	// Exit ends the program at once. It is used where a command does not end soon after
	// Ctrl-C; nil where it may take its time.
	Exit func(code int)
}

// command is one command: what help shows of it, and what it does.
type command struct {
	name     string                      // "add"; a verb's with its group's before it: "wallet put"
	args     string                      // "NAME [URL]"
	summary  string                      // one line
	keys     func(*schema.Schema) string // the table of keys that stands behind long; nil for none
	long     string
	examples []string
	quick    bool // over in milliseconds: neither dials, asks nor writes
	patient  bool // a signal is its program's, which may go on
	minArgs  int  // of names
	maxArgs  int  // of names; -1 for any number
	flags    func(*flagSet)
	run      func(context.Context, *call) error
	verbs    func() []*command // a group's; it has no run of its own
	hidden   bool              // what the program starts itself as; help does not show it
}

// call is a command being run.
type call struct {
	World
	*render.Terminal
	args     []string
	after    int             // how many of args stood before "--"; -1 where there was none
	set      map[string]bool // flags that were given
	noColour bool
	makers   []maker // of all commands
	log      *slog.Logger
	keys     *schema.Schema
	loaded   *profile.File
	broken   error // what is wrong with the project's file
	vouched  vouch.Book
	book     *alias.Book   // the aliases, once loaded
	asked    *find.Engines // the container engines of this machine, once they are wanted
}

// maker makes a command by its name: a run makes the one that it is of.
type maker struct {
	Name string
	Make func() *command
}

// made makes all commands, for help.
func made(makers []maker) []*command {
	var all []*command
	for _, m := range makers {
		all = append(all, m.Make())
	}
	return all
}

// runAs runs one of the commands that makers make, in the order in which help shows them, and returns the
// program's exit code.
func runAs(ctx context.Context, w World, makers []maker, args []string) (code int) {
	_, noColour := w.Lookup("NO_COLOR")
	term := render.NewTerminal(w.Stdin, w.Stderr, noColour)
	defer func() {
		if value := recover(); value != nil {
			code = showDefect(term, defect.Caught(value))
		}
	}()
	out := render.NewOutput(w.Stdout)
	w.Stdout = out
	err := dispatch(ctx, w, term, noColour, makers, args)
	code, try := exitCode(err)
	if unwritten := out.Err(); unwritten != nil { // said once, whoever met it
		if errors.Is(err, unwritten) {
			err, code = nil, exitOK
		}
		term.Failure(fmt.Errorf("the output could not be written: %s", plainReason(unwritten)), nil)
		code = max(code, exitFailed)
	}
	if err != nil && err.Error() != "" {
		term.Failure(err, try)
	}
	return code
}

// Defect shows a panic of a goroutine that nobody waits for, and is its exit code.
func Defect(stderr io.Writer, d *defect.Defect) int {
	return showDefect(render.NewTerminal(nil, stderr, true), d)
}

func showDefect(term *render.Terminal, d *defect.Defect) int {
	term.Failure(fmt.Errorf("a defect in gharbor, which is not your doing: %s", clean.Line(d.Error(), 200)), nil)
	term.Say("%s", clean.Lines(string(d.Stack)))
	return exitDefect
}

func dispatch(ctx context.Context, w World, term *render.Terminal, noColour bool,
	makers []maker, args []string) error {
	if len(args) == 0 {
		return overview(w.Stdout, made(makers))
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		return overview(w.Stdout, made(makers))
	case "-version", "--version":
		name = "version"
	}
	keys := schema.New(w.Engines)
	cmd, rest, err := choice(makers, append([]string{name}, args[1:]...))
	if err != nil {
		return err
	}
	if cmd.verbs != nil {
		if len(rest) > 0 {
			return groupHelp(w.Stdout, cmd)
		}
		return &exitError{
			code: exitUsage,
			err:  fmt.Errorf("%s needs a verb: %s", cmd.name, strings.Join(verbNames(cmd.verbs()), ", ")),
			try:  []string{"gharbor help " + cmd.name},
		}
	}
	c := &call{
		World:    w,
		keys:     keys,
		Terminal: term,
		noColour: noColour,
		set:      make(map[string]bool),
		makers:   makers,
	}
	verbose, err := c.parse(cmd, rest)
	if errors.Is(err, flag.ErrHelp) {
		return commandHelp(w.Stdout, keys, cmd)
	}
	if err != nil {
		return err
	}
	c.log = slog.New(slog.DiscardHandler)
	if verbose {
		c.log = slog.New(slog.NewTextHandler(w.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	c.log.Debug("command", "name", cmd.name, "flags", setFlags(c.set))
	if w.Interrupts != nil && !cmd.quick {
		var stop context.CancelFunc
		ctx, stop = w.Interrupts(ctx)
		defer stop()
		if w.Exit != nil && !cmd.patient {
			defer context.AfterFunc(ctx, func() {
				time.Sleep(lastMoment)
				w.Exit(exitInterrupted)
			})()
		}
	}
	return cmd.run(ctx, c)
}

// lastMoment is how long a command may go on after Ctrl-C: what tidies up behind it takes less,
// and what does not end by then hangs in a library.
const lastMoment = 10 * time.Second

// choice finds the command that the first words name, a group's verb included.
// rest are the words behind it; a group comes back itself where no verb follows,
// or a wish for help.
func choice(makers []maker, words []string) (cmd *command, rest []string, err error) {
	var all []*command
	for _, m := range makers {
		if m.Name == words[0] {
			all = []*command{m.Make()}
		}
	}
	if all == nil {
		return nil, nil, unknownCommand(made(makers), "", words[0])
	}
	group := ""
	for {
		name := strings.TrimSpace(group + " " + words[0])
		cmd, rest = nil, words[1:]
		for _, one := range all {
			if one.name == name {
				cmd = one
			}
		}
		if cmd == nil {
			return nil, nil, unknownCommand(all, group, words[0])
		}
		if cmd.verbs == nil || len(rest) == 0 || rest[0] == "-h" || rest[0] == "-help" || rest[0] == "--help" {
			return cmd, rest, nil
		}
		all, group, words = cmd.verbs(), cmd.name, rest
	}
}

// verbNames are the last words of the names that help shows.
func verbNames(all []*command) []string {
	var words []string
	for _, cmd := range all {
		if !cmd.hidden {
			words = append(words, cmd.name[strings.LastIndexByte(cmd.name, ' ')+1:])
		}
	}
	return words
}

func unknownCommand(all []*command, group, word string) error {
	what, prefix := "command", ""
	if group != "" {
		what, prefix = "verb of "+group, group+" "
	}
	if near := nearest.Name(word, verbNames(all)); near != "" {
		return &exitError{
			code: exitUsage,
			err:  fmt.Errorf("no %s of that name; did you mean %q?", what, near),
			try:  []string{"gharbor help " + prefix + near},
		}
	}
	return &exitError{
		code: exitUsage,
		err:  fmt.Errorf("no %s of that name", what),
		try:  []string{strings.TrimSpace("gharbor help " + group)},
	}
}
