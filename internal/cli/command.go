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
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/secret"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/render"
)

// Exit codes.
const (
	exitOK          = 0
	exitFailed      = 1 // a test or an expectation failed
	exitUsage       = 2 // the command line is wrong
	exitFile        = 3 // a configuration file is wrong
	exitSecret      = 4 // a secret could not be had
	exitServer      = 5 // the server or the route failed
	exitUnknown     = 6 // compare can't tell
	exitDefect      = 70
	exitInterrupted = 130 // Ctrl-C, as shells number it
)

// World is what the program runs in: its streams and its environment.
type World struct {
	Stdin  io.Reader
	Stdout io.Writer
	Stderr io.Writer
	Lookup func(name string) (string, bool) // environment variables
	// Dir is the working folder, "" for the process's own.
	Dir string
	// Environ is the whole environment as the program was given it, "NAME=value".
	Environ func() []string

	// Interrupts makes a context that Ctrl-C ends. A command that is over in
	// milliseconds does without: the system ends it, and its start is quicker.
	// nil where the context given to Run is one already.
	Interrupts func(context.Context) (context.Context, context.CancelFunc)
}

// command is one command: what help shows of it, and what it does.
type command struct {
	name     string // "add"; a verb's with its group's before it: "wallet put"
	args     string // "NAME [URL]"
	summary  string // one line
	long     string
	examples []string
	quick    bool // over in milliseconds: neither dials, asks nor writes
	least    int  // names it takes, at the least and at the most
	most     int
	flags    func(*flag.FlagSet)
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
	log      *slog.Logger
	loaded   *profile.File
	broken   error // what is wrong with the project's file
	vouched  vouch.Book
}

// commands lists them in the order in which help shows them.
func commands() []*command {
	return []*command{
		addCommand(), setCommand(), listCommand(), showCommand(), copyCommand(), renameCommand(), removeCommand(),
		testCommand(), waitCommand(), compareCommand(), nearbyCommand(), certificateCommand(), withCommand(), shortcutCommand(), importCommand(), exportCommand(), secretCommand(), walletCommand(), auditCommand(), vouchCommand(), explainCommand(), demoCommand(), versionCommand(), helpCommand(),
	}
}

// exitError is an error with an exit code of its own and lines to try.
type exitError struct {
	code int
	err  error // nil: all has been said
	try  []string
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// usage is a mistake on the command line. It never repeats a value.
func usage(format string, args ...any) error {
	return &exitError{code: exitUsage, err: fmt.Errorf(format, args...)}
}

// Run runs the program and returns its exit code.
func Run(ctx context.Context, w World, args []string) (code int) {
	_, noColour := w.Lookup("NO_COLOR")
	term := render.NewTerminal(w.Stdin, w.Stderr, noColour)
	defer func() {
		if defect := recover(); defect != nil {
			term.Failure(fmt.Errorf("a defect in gharbor, which is not your doing: %s", clean.Line(fmt.Sprint(defect), 200)), nil)
			term.Say("%s", debug.Stack())
			code = exitDefect
		}
	}()
	err := dispatch(ctx, w, term, noColour, args)
	if err == nil {
		return exitOK
	}
	code, try := exitCode(err)
	if err.Error() != "" {
		term.Failure(err, try)
	}
	return code
}

func exitCode(err error) (code int, try []string) {
	var exit *exitError
	var file *profile.FileError
	var request *profile.RequestError
	var secretFailure *secret.Failure
	var program *programExit
	switch {
	case errors.As(err, &exit):
		return exit.code, exit.try
	case errors.As(err, &program):
		return program.code, nil
	case errors.As(err, &file):
		return exitFile, nil
	case errors.As(err, &request):
		return exitUsage, nil
	case errors.As(err, &secretFailure):
		return exitSecret, secretFailure.Found.Try
	case errors.Is(err, context.Canceled):
		return exitInterrupted, nil
	}
	return exitFailed, nil
}

func dispatch(ctx context.Context, w World, term *render.Terminal, noColour bool, args []string) error {
	all := commands()
	if len(args) == 0 {
		return overview(w.Stdout, all)
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		return overview(w.Stdout, all)
	case "-version", "--version":
		name = "version"
	}
	cmd, rest, err := choice(all, append([]string{name}, args[1:]...))
	if err != nil {
		return err
	}
	if cmd.verbs != nil {
		if len(rest) > 0 {
			return groupHelp(w.Stdout, cmd)
		}
		return &exitError{code: exitUsage, err: fmt.Errorf("%s needs a verb: %s", cmd.name, strings.Join(verbNames(cmd.verbs()), ", ")), try: []string{"gharbor help " + cmd.name}}
	}
	c := &call{World: w, Terminal: term, noColour: noColour, set: make(map[string]bool)}
	verbose, err := c.parse(cmd, rest)
	if errors.Is(err, flag.ErrHelp) {
		return commandHelp(w.Stdout, cmd)
	}
	if err != nil {
		return err
	}
	c.log = slog.New(slog.DiscardHandler)
	if verbose {
		c.log = slog.New(slog.NewTextHandler(w.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	c.log.Debug("command", "name", cmd.name, "flags", keys(c.set))
	if w.Interrupts != nil && !cmd.quick {
		var stop context.CancelFunc
		ctx, stop = w.Interrupts(ctx)
		defer stop()
	}
	return cmd.run(ctx, c)
}

// choice finds the command that the first words name, a group's verb included.
// rest are the words behind it; a group comes back itself where no verb follows,
// or a wish for help.
func choice(all []*command, words []string) (cmd *command, rest []string, err error) {
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
		return &exitError{code: exitUsage, err: fmt.Errorf("no %s of that name; did you mean %q?", what, near), try: []string{"gharbor help " + prefix + near}}
	}
	return &exitError{code: exitUsage, err: fmt.Errorf("no %s of that name", what), try: []string{strings.TrimSpace("gharbor help " + group)}}
}

// parse takes flags before and after names, up to "--". A flag's wrong value
// is named by its flag and never repeated: it may be a misplaced password.
func (c *call) parse(cmd *command, args []string) (verbose bool, err error) {
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	fs.Usage = func() {}
	fs.BoolVar(&verbose, "verbose", false, "log to stderr what is done; never a secret")
	if cmd.flags != nil {
		cmd.flags(fs)
	}
	var wrong error
	fs.VisitAll(func(f *flag.Flag) { f.Value = &quiet{f.Value, f.Name, &wrong} })
	var after []string
	c.after = -1
	for i, arg := range args {
		if arg == "--" {
			args, after, c.after = args[:i], args[i+1:], 0
			break
		}
	}
	for {
		if err := fs.Parse(args); err != nil {
			return false, c.flagError(cmd, fs, err, wrong)
		}
		if fs.NArg() == 0 {
			break
		}
		c.args = append(c.args, fs.Arg(0))
		args = fs.Args()[1:]
	}
	if c.after == 0 {
		c.after = len(c.args)
	}
	c.args = append(c.args, after...)
	fs.Visit(func(f *flag.Flag) { c.set[f.Name] = true })
	return verbose, c.countArgs(cmd)
}

func (c *call) countArgs(cmd *command) error {
	try := []string{"gharbor help " + cmd.name}
	switch n := len(c.args); {
	case n < cmd.least:
		return &exitError{code: exitUsage, err: fmt.Errorf("%s needs %s", cmd.name, cmd.args), try: try}
	case cmd.most >= 0 && n > cmd.most:
		what := cmd.args
		if what == "" {
			what = "no names"
		}
		return &exitError{code: exitUsage, err: fmt.Errorf("%s takes %s, and %d words were given; a value with blanks needs quotes, a switch's value an = sign", cmd.name, what, n), try: try}
	}
	return nil
}

// quiet keeps a flag's error apart from the value that the flag package would
// repeat.
type quiet struct {
	flag.Value
	name  string
	wrong *error
}

func (q *quiet) Set(s string) error {
	err := q.Value.Set(s)
	if err != nil && *q.wrong == nil {
		text := err.Error()
		if text == "parse error" {
			text = "expected " + expectedOf(q.Value)
		}
		*q.wrong = fmt.Errorf("-%s: %s", q.name, text)
	}
	return err
}

// IsBoolFlag lets a switch stand without a value.
func (q *quiet) IsBoolFlag() bool {
	b, ok := q.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

func (q *quiet) String() string {
	if q.Value == nil {
		return ""
	}
	return q.Value.String()
}

func expectedOf(v flag.Value) string {
	if getter, ok := v.(flag.Getter); ok {
		switch getter.Get().(type) {
		case bool:
			return "true or false, after an = sign"
		case time.Duration:
			return "a time such as 10s or 500ms"
		case int:
			return "a whole number"
		}
	}
	return "another value"
}

// flagError puts the flag package's error into our words.
func (c *call) flagError(cmd *command, fs *flag.FlagSet, err, wrong error) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	try := []string{"gharbor help " + cmd.name}
	if wrong != nil {
		return &exitError{code: exitUsage, err: wrong, try: try}
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: -"); ok {
		var all []string
		fs.VisitAll(func(f *flag.Flag) { all = append(all, f.Name) })
		if near := nearest.Name(name, []string{"password", "passwd", "pass", "pwd"}); near != "" && nearest.Name(name, all) == "" {
			return usage("there is no flag for a password: %s", profile.NoPasswordHere)
		}
		text := "unknown flag"
		if plainFlag(name) {
			text += " -" + name
		}
		if near := nearest.Name(name, all); near != "" {
			text += "; did you mean -" + near + "?"
		}
		return &exitError{code: exitUsage, err: errors.New(text), try: try}
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag needs an argument: -"); ok {
		return &exitError{code: exitUsage, err: fmt.Errorf("-%s needs a value", clean.Line(name, 40)), try: try}
	}
	return &exitError{code: exitUsage, err: errors.New("a flag is not written as one: -name or -name=value"), try: try}
}

// plainFlag reports whether an unknown flag's name may be repeated: what has
// digits or signs in it may be a password that slipped in.
func plainFlag(name string) bool {
	return len(name) <= 20 && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz-") == ""
}

func keys(set map[string]bool) []string {
	var all []string
	for name := range set {
		all = append(all, name)
	}
	return all
}

// home opens the tool's own folder.
func (c *call) home() (profile.Home, error) {
	h, err := profile.FindHome(c.Lookup)
	if err != nil {
		return h, &exitError{code: exitFile, err: err}
	}
	h.Notice = func(text string) { c.Notice("%s", text) }
	c.log.Debug("home", "folder", h.Dir)
	return h, nil
}

// large is the size of a profile file, in bytes, from which collecting garbage
// would take a part of the time that is felt: about 1,500 profiles.
const large = 256 << 10

// load reads the profiles, once.
func (c *call) load() (*profile.File, error) {
	if c.loaded == nil {
		file, err := c.read()
		if err != nil {
			return nil, err
		}
		c.attach(file)
		c.loaded = file
	}
	return c.loaded, nil
}

// attach looks for a project's file. One that is wrong, or somebody else's, is
// said and passed over: it can't keep the user from their own profiles.
func (c *call) attach(file *profile.File) {
	place, ok := c.projectPlace()
	if !ok {
		return
	}
	project, err := profile.LoadProject(place)
	if err != nil {
		c.Notice("%s", clean.Line(err.Error(), 0))
		c.broken = err
		return
	}
	c.log.Debug("project", "file", project.Path, "count", len(project.Profiles))
	file.Attach(project)
}

// projectPlace is where the project's file is, or would be made.
func (c *call) projectPlace() (place profile.Place, ok bool) {
	dir, err := c.workDir()
	if err != nil {
		return place, false
	}
	return profile.FindProject(dir)
}

// workDir is the working folder.
func (c *call) workDir() (string, error) {
	if c.Dir != "" {
		return c.Dir, nil
	}
	return os.Getwd()
}

// missing is the error for a profile that is not there. Where the project's file
// is wrong, the profile may stand in it.
func (c *call) missing(file *profile.File, name string) error {
	if c.broken != nil {
		return c.broken
	}
	return file.Missing(name)
}

// lookup finds a profile by its name, and says so where the project has one of
// the same name.
func (c *call) lookup(file *profile.File, name string) (*profile.Profile, error) {
	p := file.Lookup(name)
	if p == nil {
		return nil, c.missing(file, name)
	}
	if project := file.Attached(); project != nil && !p.InProject() && project.Lookup(name) != nil {
		c.Notice("the project's file has a profile %s too; yours is meant, and %s%s is the other", name, profile.ProjectPrefix, name)
	}
	return p, nil
}

func (c *call) read() (*profile.File, error) {
	h, err := c.home()
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(h.ProfilesPath()); err == nil && info.Size() > large {
		debug.SetGCPercent(400) // a run this short ends before a collection is worth its time
	}
	file, err := h.Load()
	if err == nil {
		c.log.Debug("profiles", "file", file.Path, "count", len(file.Profiles))
	}
	return file, err
}

// environment is what resolving a profile takes from the machine.
func (c *call) environment() profile.Environment {
	home, _ := c.Lookup("HOME")
	if home == "" {
		home, _ = os.UserHomeDir()
	}
	if c.vouched.Path == "" {
		if h, err := profile.FindHome(c.Lookup); err == nil {
			c.vouched = vouch.Book{Path: filepath.Join(h.Dir, "vouched.toml")}
		}
	}
	return profile.Environment{Lookup: c.Lookup, Home: home, Vouch: c.vouched.Judge}
}

// account is the name of the system account, as its environment says.
func (c *call) account() string {
	for _, name := range []string{"USER", "LOGNAME"} {
		if user, ok := c.Lookup(name); ok && user != "" {
			return clean.Line(user, 60)
		}
	}
	return ""
}

// format is the flag -format of a command that lists or tests.
type format string

// flag registers -format with text and json, and with more where a command has
// more.
func (f *format) flag(fs *flag.FlagSet, more ...string) {
	*f = "text"
	words := append([]string{"text", "json"}, more...)
	one := strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
	fs.Func("format", one+" (default text)", func(s string) error {
		if !slices.Contains(words, s) {
			return errors.New("expected " + one)
		}
		*f = format(s)
		return nil
	})
}

func (f format) json() bool { return f == "json" }
func (f format) text() bool { return f == "text" }
