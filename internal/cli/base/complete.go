package base

import (
	"io"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/render"
)

// Offer is a word that completion offers, with what it is.
type Offer struct{ Word, What string }

// Completion is the words for one place of a command line.
type Completion struct {
	Offers []Offer
	Files  bool // names of files may stand there too
}

// Complete offers words for the last word, whose beginning was typed. The words before it are those after the
// program's name. It reads files, and never asks, dials or unlocks.
func (c *Call) Complete(words []string) Completion {
	// Nothing is made safer here, and nothing said.
	c.AsFound, c.Terminal = true, render.NewTerminal(nil, io.Discard, true)
	typed, before := words[len(words)-1], words[:len(words)-1]
	if slices.Contains(before, "--") {
		return Completion{Files: true} // a program and its arguments
	}
	all := c.place(before, typed)
	all.Offers = slices.DeleteFunc(all.Offers, func(o Offer) bool {
		return !strings.HasPrefix(o.Word, typed) || o.Word != clean.Line(o.Word, 0)
	})
	return all
}

// place offers words for the place after words, where typed is there already.
func (c *Call) place(before []string, typed string) Completion {
	commands := make([]*Command, len(c.Makers))
	for i, m := range c.Makers {
		commands[i] = m.Make()
	}
	if len(before) > 0 && before[0] == "help" {
		before = before[1:]
	}
	for group := ""; ; {
		if len(before) == 0 {
			return Completion{Offers: namesOf(commands, group)}
		}
		name := strings.TrimSpace(group + " " + before[0])
		i := slices.IndexFunc(commands, func(one *Command) bool { return one.Name == name })
		if i < 0 {
			return Completion{}
		}
		cmd := commands[i]
		before = before[1:]
		if cmd.Verbs == nil || cmd.Run != nil && len(before) > 0 && strings.HasPrefix(before[0], "-") {
			return c.placeOf(cmd, before, typed)
		}
		commands, group = cmd.Verbs(), cmd.Name
		if cmd.Run != nil && len(before) == 0 { // a command by itself, with verbs beside it
			all := c.placeOf(cmd, nil, typed)
			all.Offers = append(all.Offers, namesOf(commands, group)...)
			return all
		}
	}
}

// namesOf are the last words of the names of commands.
func namesOf(commands []*Command, group string) (all []Offer) {
	for _, one := range commands {
		if !one.Hidden {
			all = append(all, Offer{strings.TrimPrefix(one.Name, group+" "), one.Summary})
		}
	}
	return all
}

// placeOf offers words for the place after a command's name and its own words.
func (c *Call) placeOf(cmd *Command, before []string, typed string) Completion {
	fs := flagsOf(cmd, c.Keys)
	fs.BoolVar(new(bool), "verbose", false, "log each step to stderr, never a secret")
	var names []string
	pending := ""
	for _, word := range before {
		name, isFlag := strings.CutPrefix(word, "-")
		f := fs.Lookup(strings.TrimPrefix(name, "-"))
		switch {
		case pending != "":
			pending = ""
		case !isFlag || name == "":
			names = append(names, word)
		case f != nil && !isSwitch(f.Value):
			pending = f.Name
		}
	}
	dashes := typed[:len(typed)-len(strings.TrimLeft(typed, "-"))]
	name, value, hasValue := strings.Cut(typed[len(dashes):], "=")
	switch {
	case pending != "":
		return c.completeFlag(cmd, fs, pending, typed)
	case dashes == "":
		return c.completeName(cmd, names, typed)
	case !hasValue:
		return Completion{Offers: fs.offers(dashes)}
	}
	all := c.completeFlag(cmd, fs, name, value)
	for i := range all.Offers {
		all.Offers[i].Word = dashes + name + "=" + all.Offers[i].Word
	}
	return all
}

// offers are the flags, with so many dashes before them.
func (fs *FlagSet) offers(dashes string) (all []Offer) {
	for _, name := range fs.made {
		all = append(all, Offer{dashes + name, fs.Lookup(name).Usage})
	}
	return all
}

// placeholders are the words of a command's Args that stand for a name, in order, without marks; repeated is whether
// the last may be given more than once.
func placeholders(args string) (all []string, repeated bool) {
	skip := false
	for word := range strings.FieldsSeq(args) {
		switch {
		case word == "[flags]" || word == "--" || word == "|":
			return all, repeated
		case skip:
			skip = false
		case strings.HasPrefix(word, "-"): // a flag that has to be there, and its value
			skip = true
		default:
			repeated = strings.Contains(word, "…")
			word, _, _ = strings.Cut(strings.Trim(word, "[]…"), "|")
			all = append(all, strings.TrimRight(word, "…]"))
		}
	}
	return all, repeated
}

// completeName offers words for a command's next name.
func (c *Call) completeName(cmd *Command, names []string, typed string) Completion {
	all, repeated := placeholders(cmd.Args)
	at := len(names)
	if at >= len(all) {
		if !repeated {
			return Completion{}
		}
		at = len(all) - 1
	}
	if s := c.source(cmd, all[at]); s != nil {
		return s(c, typed)
	}
	return Completion{}
}

// source is where the words of a placeholder come from: the command's own list, or the table's entry for the command,
// its group, or all commands; nil for none.
func (c *Call) source(cmd *Command, placeholder string) source {
	if cmd.Words != nil {
		if words := cmd.Words(c)[placeholder]; words != nil {
			return fixedWords(words...)
		}
	}
	for group := cmd.Name; ; {
		if s, ok := sources()[strings.TrimSpace(group+" "+placeholder)]; ok {
			return s
		}
		if group == "" {
			return nil
		}
		if f := c.Keys.Field(key.Name(group)); placeholder == "NAME" && f != nil && f.Address {
			return addressValues(f)
		}
		group = group[:max(strings.LastIndexByte(group, ' '), 0)]
	}
}

// completeFlag offers values for a flag.
func (c *Call) completeFlag(cmd *Command, fs *FlagSet, name, typed string) Completion {
	if words := fs.words[name]; words != nil {
		return fixedWords(words...)(c, typed)
	}
	if s := c.flagSource(cmd, fs, name); s != nil {
		return s(c, typed)
	}
	return Completion{}
}

// flagSource is where the values of a flag come from, nil for none.
func (c *Call) flagSource(cmd *Command, fs *FlagSet, name string) source {
	for _, k := range []string{cmd.Name + " -" + name, "-" + name} {
		if s, ok := sources()[k]; ok {
			return s
		}
	}
	if f := c.Keys.Field(key.Name(name)); f != nil && fs.Lookup(name) != nil {
		return fieldSource(f)
	}
	return nil
}

// UncompletedPlaces are the places without a source: a placeholder, or a flag that takes a value. It is for a test of
// the list of commands.
func UncompletedPlaces(keys *schema.Schema, makers []Maker) (all []string) {
	own := make(map[string]bool)
	for _, name := range flagsWithoutWords() {
		own[name] = false
	}
	c := &Call{Keys: keys, World: World{Engines: keys.Engines()}}
	var walk func(cmd *Command)
	walk = func(cmd *Command) {
		if cmd.Verbs != nil {
			for _, verb := range cmd.Verbs() {
				walk(verb)
			}
		}
		if cmd.Run == nil || cmd.Hidden {
			return
		}
		places, _ := placeholders(cmd.Args)
		for _, place := range places {
			if c.source(cmd, place) == nil {
				all = append(all, cmd.Name+" "+place)
			}
		}
		fs := flagsOf(cmd, keys)
		for _, name := range fs.made {
			f := fs.Lookup(name)
			number := strings.Trim(f.DefValue, "0123456789") != f.DefValue // or a time
			if isSwitch(f.Value) || number || fs.words[name] != nil || c.flagSource(cmd, fs, name) != nil {
				continue
			}
			if _, known := own[name]; !known {
				all = append(all, cmd.Name+" -"+name)
			}
			own[name] = true
		}
	}
	for _, m := range makers {
		walk(m.Make())
	}
	for name, there := range own {
		if !there {
			all = append(all, "no command's -"+name)
		}
	}
	return all
}

// flagsWithoutWords are the flags whose values can't be offered.
func flagsWithoutWords() []string {
	return []string{"address", "change", "collection", "columns", "compose-profile", "compose-project", "expect",
		"fingerprint", "for", "from", "generate", "image", "let", "local", "name", "null", "on", "owner", "table", "url",
		"volume"}
}
