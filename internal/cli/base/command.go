// Package base has what all commands need: the command value, flags, help, completion, exit codes, and the loading of
// profiles. Each package beside it has the commands of one group. A command is a struct value, which help also shows;
// it turns flags into a call of the core, and the result into output. Commands return errors, and only Run turns an
// error into an exit code. Start with Command and Run.
package base

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
	"gentleharbor/core/cloud"
	"gentleharbor/core/container/find"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/cli/wording"
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
	// Environ is the program's whole environment, "NAME=value".
	Environ func() []string

	// Interrupts makes a context that Ctrl-C ends. A command that takes milliseconds needs none: the system ends it,
	// and its start is quicker. nil where the context of Run is such a one.
	Interrupts func(context.Context) (context.Context, context.CancelFunc)

	// Exit ends the program at once, where a command does not end soon after Ctrl-C. Where it is nil, the program
	// waits for the command.
	Exit func(code int)
}

// Command is one command: what help shows of it, and what it does.
type Command struct {
	Name     string                      // "add"; a verb's with its group's before it: "wallet keep"
	Args     string                      // "NAME [URL]"
	Summary  string                      // one line
	Keys     func(*schema.Schema) string // the table of keys that stands behind long; nil for none
	Long     string
	Examples []string
	Machine  bool // what it prints is for a program as well as for a person: no line of it is broken
	Quick    bool // over in milliseconds: neither dials, asks nor writes
	Program  bool // two dashes and a program stand behind its own words
	Patient  bool // a signal is its program's, which may go on
	Signals  bool // it looks after signals itself
	// Words offers words for a placeholder of Args, for completion; nil where the table of sources does.
	Words   func(*Call) map[string][]string
	MinArgs int // of names
	MaxArgs int // of names; -1 for any number
	Flags   func(*FlagSet)
	Run     func(context.Context, *Call) error
	Verbs   func() []*Command // a group's; most have no run of their own
	Hidden  bool              // what the program starts itself as; help does not show it
}

// Call is a run of a command.
type Call struct {
	World
	*render.Terminal
	Args     []string
	After    int             // how many of args stood before "--"; -1 where there was none
	Set      map[string]bool // flags that were given
	NoColour bool
	Makers   []Maker // of all commands
	Log      *slog.Logger
	Keys     *schema.Schema
	AsFound  bool // loose permissions of the tool's own files are left, for an audit
	Loaded   *profile.File
	Broken   error // what is wrong with the project's file
	Vouched  vouch.Book
	Book     *alias.Book     // the aliases, once loaded
	asked    *find.Engines   // the container engines of this machine, once they are wanted
	clouds   *cloud.Accounts // the cloud accounts, once they are wanted
	typed    []string        // the words behind "gharbor", as they were given
}

// Maker has a command's name and makes the command: a run makes only its own.
type Maker struct {
	Name  string
	Make  func() *Command
	Group string // the heading above it in help; "" for that of the one before
}

// makeCommands makes all commands, for help.
func makeCommands(makers []Maker) []*Command {
	var all []*Command
	for _, m := range makers {
		all = append(all, m.Make())
	}
	return all
}

// Run runs one of the makers' commands, and returns the program's exit code. Help shows the commands in the order of
// makers.
func Run(ctx context.Context, w World, makers []Maker, args []string) (code int) {
	_, noColour := w.Lookup("NO_COLOR")
	term := render.NewTerminal(w.Stdin, w.Stderr, noColour)
	defer func() {
		if value := recover(); value != nil {
			code = showDefect(term, defect.FromPanic(value))
		}
	}()
	out := render.NewOutput(w.Stdout)
	w.Stdout = out
	err := dispatch(ctx, w, term, noColour, makers, args)
	code, try, steps := ExitCode(err)
	if unwritten := out.Err(); unwritten != nil { // said once, whoever met it
		if errors.Is(err, unwritten) {
			err, code = nil, ExitOK
		}
		term.Failure(fmt.Errorf("the output could not be written: %s", wording.PlainReason(unwritten)), nil, nil)
		code = max(code, ExitFailed)
	}
	switch {
	case err == nil || err.Error() == "":
	case code == ExitInterrupted && !strings.HasPrefix(err.Error(), "stopped"):
		term.Say("stopped")
	default:
		term.Failure(err, try, steps)
	}
	return code
}

// outside reports whether an error is a finding, and so not the program's own.
func outside(err error) bool {
	failure, exit := new(secret.Failure), new(ExitError)
	return errors.As(err, &failure) || errors.As(err, &exit) && exit.Outside
}

// Defect prints a panic of a goroutine that nobody waits for, and returns the exit code.
func Defect(stderr io.Writer, d *defect.Defect) int {
	return showDefect(render.NewTerminal(nil, stderr, true), d)
}

func showDefect(term *render.Terminal, d *defect.Defect) int {
	term.Failure(fmt.Errorf("a bug in gharbor, not your mistake: %s", clean.Line(d.Error(), 200)), nil, nil)
	term.Say("%s", clean.Lines(string(d.Stack)))
	return exitDefect
}

func dispatch(ctx context.Context, w World, term *render.Terminal, noColour bool,
	makers []Maker, args []string) error {
	if len(args) == 0 {
		return overview(w.Stdout, makers)
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		return overview(w.Stdout, makers)
	case "-version", "--version":
		name = "version"
	}
	keys := schema.New(w.Engines)
	cmd, rest, err := choice(makers, append([]string{name}, args[1:]...))
	if err != nil {
		return err
	}
	if cmd.Verbs != nil && cmd.Run == nil {
		if len(rest) > 0 {
			return groupHelp(w.Stdout, cmd)
		}
		return Failure(ExitUsage,
			fmt.Errorf("%s needs a verb: %s", cmd.Name, strings.Join(verbNames(cmd.Verbs()), ", ")),
			"gharbor help "+cmd.Name)
	}
	c := &Call{
		World:    w,
		Keys:     keys,
		Terminal: term,
		NoColour: noColour,
		Set:      make(map[string]bool),
		Makers:   makers,
		typed:    args,
	}
	if out, ok := w.Stdout.(*render.Output); ok && cmd.Machine {
		out.KeepLines()
	}
	verbose, err := c.parse(cmd, rest)
	if errors.Is(err, flag.ErrHelp) {
		return commandHelp(w.Stdout, keys, cmd)
	}
	if err != nil {
		return err
	}
	c.Log = slog.New(slog.DiscardHandler)
	if verbose {
		c.Log = slog.New(slog.NewTextHandler(w.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	c.Log.Debug("command", "name", cmd.Name, "flags", setFlags(c.Set))
	if w.Interrupts != nil && !cmd.Quick && !cmd.Signals {
		var stop context.CancelFunc
		ctx, stop = w.Interrupts(ctx)
		defer stop()
		if w.Exit != nil && !cmd.Patient {
			defer context.AfterFunc(ctx, func() {
				time.Sleep(lastMoment)
				w.Exit(ExitInterrupted)
			})()
		}
	}
	err = cmd.Run(ctx, c)
	if ctx.Err() != nil && outside(err) { // after Ctrl-C nothing outside was waited for any more
		return ctx.Err()
	}
	return err
}

// lastMoment is how long a command may go on after Ctrl-C: its clean-up takes less, and a command that takes longer
// hangs in a library.
const lastMoment = 10 * time.Second

// choice finds the command of the first words, with a group's verb. rest are the words after it. It returns the group
// itself where no verb follows, or "help".
func choice(makers []Maker, words []string) (cmd *Command, rest []string, err error) {
	var all []*Command
	for _, m := range makers {
		if m.Name == words[0] {
			all = []*Command{m.Make()}
		}
	}
	if all == nil {
		if err := meantError(words[0], words[1:]); err != nil {
			return nil, nil, err
		}
		return nil, nil, unknownCommand(makeCommands(makers), "", words[0])
	}
	group := ""
	for {
		name := strings.TrimSpace(group + " " + words[0])
		cmd, rest = nil, words[1:]
		for _, one := range all {
			if one.Name == name {
				cmd = one
			}
		}
		if cmd == nil {
			return nil, nil, unknownCommand(all, group, words[0])
		}
		if cmd.Verbs == nil || len(rest) == 0 || cmd.Run != nil && strings.HasPrefix(rest[0], "-") ||
			rest[0] == "-h" || rest[0] == "-help" || rest[0] == "--help" {
			return cmd, rest, nil
		}
		all, group, words = cmd.Verbs(), cmd.Name, rest
	}
}

// verbNames are the last words of the names that help shows.
func verbNames(all []*Command) []string {
	var words []string
	for _, cmd := range all {
		if !cmd.Hidden {
			words = append(words, cmd.Name[strings.LastIndexByte(cmd.Name, ' ')+1:])
		}
	}
	return words
}

func unknownCommand(all []*Command, group, word string) error {
	names := verbNames(all)
	said, prefix := "no command of that name", ""
	if group != "" {
		said, prefix = fmt.Sprintf("gharbor %s has no such command", group), group+" "
	}
	if now := renamed[prefix+word]; now != "" {
		return Failure(ExitUsage, fmt.Errorf("%s%s is called %s", prefix, word, now), "gharbor help "+now)
	}
	near := nearest.Name(word, names)
	if near == "" && group != "" {
		near = sameVerb(word, names)
	}
	if near != "" {
		return Failure(ExitUsage, fmt.Errorf("%s; did you mean %q?", said, near), "gharbor help "+prefix+near)
	}
	if group != "" {
		said += "; it has " + strings.Join(names, ", ")
	}
	return Failure(ExitUsage, errors.New(said), strings.TrimSpace("gharbor help "+group))
}
