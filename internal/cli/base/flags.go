package base

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/profile/schema"
)

// FlagSet has the flags of a command, and the keys of profiles that some flags set. Help shows flags in the order in
// which they were added, so that related ones are together.
type FlagSet struct {
	*flag.FlagSet
	Keys  *schema.Schema
	made  []string          // names, in order
	heads map[string]string // by the name of the flag that stands below it
	head  string            // for the next flag
	words map[string][]string
}

// Choose says which words a flag takes, for completion.
func (fs *FlagSet) Choose(name string, words ...string) { fs.words[name] = words }

func newFlagSet(cmd *Command, keys *schema.Schema) *FlagSet {
	return &FlagSet{
		FlagSet: flag.NewFlagSet(cmd.Name, flag.ContinueOnError), Keys: keys,
		heads: make(map[string]string), head: "Flags", words: make(map[string][]string),
	}
}

// flagsOf are a command's own flags.
func flagsOf(cmd *Command, keys *schema.Schema) *FlagSet {
	fs := newFlagSet(cmd, keys)
	if cmd.Flags != nil {
		cmd.Flags(fs)
	}
	return fs
}

// isSwitch reports whether a flag takes no value.
func isSwitch(v flag.Value) bool {
	b, ok := v.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// Section puts a heading before the flags that are added next.
func (fs *FlagSet) Section(heading string) { fs.head = heading }

func (fs *FlagSet) note(name string) {
	fs.made = append(fs.made, name)
	if fs.head != "" {
		fs.heads[name], fs.head = fs.head, ""
	}
}

// The makers of package flag, in order.

func (fs *FlagSet) BoolVar(p *bool, name string, value bool, usage string) {
	fs.note(name)
	fs.FlagSet.BoolVar(p, name, value, usage)
}

func (fs *FlagSet) StringVar(p *string, name, value, usage string) {
	fs.note(name)
	fs.FlagSet.StringVar(p, name, value, usage)
}

func (fs *FlagSet) IntVar(p *int, name string, value int, usage string) {
	fs.note(name)
	fs.FlagSet.IntVar(p, name, value, usage)
}

func (fs *FlagSet) Int64Var(p *int64, name string, value int64, usage string) {
	fs.note(name)
	fs.FlagSet.Int64Var(p, name, value, usage)
}

func (fs *FlagSet) DurationVar(p *time.Duration, name string, value time.Duration, usage string) {
	fs.note(name)
	fs.FlagSet.DurationVar(p, name, value, usage)
}

func (fs *FlagSet) Func(name, usage string, set func(string) error) {
	fs.note(name)
	fs.FlagSet.Func(name, usage, set)
}

// help lists the flags, in sections.
func (fs *FlagSet) help() string {
	var b strings.Builder
	width := 0
	for _, name := range fs.made {
		width = max(width, len(name))
	}
	for _, name := range fs.made {
		if head := fs.heads[name]; head != "" {
			fmt.Fprintf(&b, "\n%s:\n", head)
		}
		f := fs.Lookup(name)
		text := f.Usage
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0s" && f.DefValue != "0" {
			text += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(&b, "  -%-*s  %s\n", width, name, text)
	}
	return b.String()
}
