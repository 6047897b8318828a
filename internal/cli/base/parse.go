package base

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// parse takes flags before and after names, up to "--". An error for a flag's value names the flag and never repeats
// the value, which may be a password in the wrong place.
func (c *Call) parse(cmd *Command, args []string) (verbose bool, err error) {
	fs := newFlagSet(cmd, c.Keys)
	fs.SetOutput(io.Discard)
	fs.Usage = func() {}
	fs.BoolVar(&verbose, "verbose", false, "log each step to stderr, never a secret")
	if cmd.Flags != nil {
		cmd.Flags(fs)
	}
	var wrong error
	fs.VisitAll(func(f *flag.Flag) { f.Value = &quietValue{f.Value, f.Name, &wrong} })
	var after []string
	c.After = -1
	for i, arg := range args {
		if arg == "--" {
			args, after, c.After = args[:i], args[i+1:], 0
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
		c.Args = append(c.Args, fs.Arg(0))
		args = fs.Args()[1:]
	}
	if c.After == 0 {
		c.After = len(c.Args)
	}
	c.Args = append(c.Args, after...)
	fs.Visit(func(f *flag.Flag) { c.Set[f.Name] = true })
	return verbose, c.countArgs(cmd)
}

func (c *Call) countArgs(cmd *Command) error {
	try := []string{"gharbor help " + cmd.Name}
	switch n := len(c.Args); {
	case n < cmd.MinArgs:
		return Failure(ExitUsage, fmt.Errorf("%s needs %s", cmd.Name, cmd.Args), try...)
	case cmd.MaxArgs >= 0 && n > cmd.MaxArgs:
		what := cmd.Args
		if what == "" {
			what = "no names"
		}
		if what == "no names" && n == 1 {
			return Failure(ExitUsage, fmt.Errorf("%s takes no names, and one was given", cmd.Name), try...)
		}
		return Failure(ExitUsage,
			fmt.Errorf("%s takes %s; %d words were given (a value with blanks needs quotes, and a switch's value "+
				"an = sign)", cmd.Name, what, n),
			try...)
	}
	return nil
}

// quietValue keeps a flag's error, as the flag package would repeat the value in its own.
type quietValue struct {
	flag.Value
	name  string
	wrong *error
}

func (q *quietValue) Set(s string) error {
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

// IsBoolFlag says that a switch needs no value.
func (q *quietValue) IsBoolFlag() bool { return isSwitch(q.Value) }

func (q *quietValue) String() string {
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
func (c *Call) flagError(cmd *Command, fs *FlagSet, err, wrong error) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	try := []string{"gharbor help " + cmd.Name}
	if wrong != nil {
		return Failure(ExitUsage, wrong, try...)
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: -"); ok {
		var all []string
		fs.VisitAll(func(f *flag.Flag) { all = append(all, f.Name) })
		near := nearest.Name(name, []string{"password", "passwd", "pass", "pwd"})
		if isWord(passwordFlags, name) || near != "" && nearest.Name(name, all) == "" {
			return Usage("there is no flag for a password: %s", syntax.NoPasswordHere)
		}
		if long := cmp.Or(shortFlags[name], string(schema.OtherWords[name])); slices.Contains(all, long) {
			return Failure(ExitUsage, fmt.Errorf("unknown flag -%s; here it is -%s", name, long), try...)
		}
		if cmd.Program && c.After < 0 {
			line := fmt.Sprintf("gharbor %s %s -- PROGRAM ARGS", cmd.Name, strings.Fields(cmd.Args)[0])
			return Failure(ExitUsage, errors.New("two dashes (--) are missing before the program: "+line), try...)
		}
		text := "unknown flag"
		if plainFlag(name) {
			text += " -" + name
		}
		if near := nearest.Name(name, all); near != "" {
			text += "; did you mean -" + near + "?"
		}
		return Failure(ExitUsage, errors.New(text), try...)
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag needs an argument: -"); ok {
		return Failure(ExitUsage, fmt.Errorf("-%s needs a value", clean.Line(name, 40)), try...)
	}
	return Failure(ExitUsage, errors.New("a flag is written -name or -name=value"), try...)
}

// isWord reports whether a word is one of several with blanks between them.
func isWord(words, word string) bool { return slices.Contains(strings.Fields(words), word) }

// plainFlag reports whether an unknown flag's name may be repeated: one with digits or signs may be a password in the
// wrong place.
func plainFlag(name string) bool {
	return len(name) <= 20 && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz-") == ""
}

func setFlags(set map[string]bool) []string {
	var all []string
	for name := range set {
		all = append(all, name)
	}
	return all
}

// Format is the flag -format of a command that lists or tests.
type Format string

// Flag registers -format with text and json, and with more where a command has
// more.
func (f *Format) Flag(fs *FlagSet, more ...string) {
	*f = "text"
	words := append([]string{"text", "json"}, more...)
	one := strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
	fs.Choose("format", words...)
	fs.Func("format", one+" (default text)", func(s string) error {
		if !slices.Contains(words, s) {
			return errors.New("expected " + one)
		}
		*f = Format(s)
		return nil
	})
}

func (f Format) JSON() bool { return f == "json" }
func (f Format) Text() bool { return f == "text" }
