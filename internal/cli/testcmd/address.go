package testcmd

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
)

// unnamed is the name of a profile that no file has, in commands to try.
const unnamed = "address"

// target is a server to test without a profile: a URL, a host and port, or an alias.
type target struct {
	word string // as given, with its engine's scheme
	sets []schema.Override
}

// targetOf reads a word of test as a target, nil for a profile's name. It tries a name with a prefix, then a URL,
// then [USER@]HOST:PORT[/DATABASE], for which engine names the kind of server.
func (c *Call) targetOf(word, engine string) (*target, error) {
	if strings.HasPrefix(word, syntax.ProjectPrefix) {
		return nil, nil
	}
	if name, ok := strings.CutPrefix(word, "alias:"); ok {
		return c.targetAlias(word, name)
	}
	if strings.HasPrefix(word, "service:") {
		return c.targetAlias(word, word)
	}
	if !strings.Contains(word, "://") {
		if !hasPort(word) {
			return nil, nil
		}
		if engine == "" {
			return nil, base.Failure(base.ExitUsage, fmt.Errorf("which kind of server is it? give its -engine"),
				c.CommandWith("engine", c.engineOf(word)))
		}
		word = c.Engines.ByWord(engine).URL.Scheme + "://" + word
	}
	read, err := connurl.Parse(c.Keys, word)
	if errors.Is(err, connurl.ErrPassword) {
		return nil, base.Advise(base.Usage("%w", err), "give the URL without its password: you are asked for it")
	}
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	for _, set := range read.Sets {
		if set.Field.Name == key.Engine && engine != "" && set.Value.Text() != engine {
			return nil, base.Usage("-engine and the URL name different engines")
		}
	}
	c.NoteLeftOut(read)
	return &target{word, read.Sets}, nil
}

// onlyTarget is the single argument where it is a target and no profile.
func (c *Call) onlyTarget(engine string) (*target, error) {
	if len(c.Args) != 1 {
		return nil, nil
	}
	return c.targetOf(c.Args[0], engine)
}

func (c *Call) targetAlias(word, name string) (*target, error) {
	field := c.Keys.Field(key.Alias)
	value, err := field.ParseValue(name)
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	return &target{word, []schema.Override{{Field: field, Value: value}}}, nil
}

// hasPort reports whether a word is [USER@]HOST:PORT[/DATABASE].
func hasPort(word string) bool {
	_, place, found := strings.Cut(word, "@")
	if !found {
		place = word
	}
	place, _, _ = strings.Cut(place, "/")
	host, port, err := net.SplitHostPort(place)
	if err != nil || host == "" {
		return false
	}
	_, err = strconv.ParseUint(port, 10, 16)
	return err == nil
}

// engineOf is the engine whose usual port a place has, else one as an example.
func (c *Call) engineOf(word string) string {
	for _, spec := range c.Engines.All() {
		if spec.Begin != nil && strings.HasSuffix(word, ":"+strconv.Itoa(spec.Port)) {
			return spec.Word
		}
	}
	return c.Engines.Example().Word
}

// testTarget tests a server without a profile. The password is from the engine's credential file or from a person,
// never from the wallet, whose entries are bound to profiles.
func (c *Call) testTarget(ctx context.Context, runner *check.Runner, t *target, o TestOptions) error {
	if _, err := c.Load(); err != nil {
		return err
	}
	var sets []schema.Override
	for _, set := range t.sets {
		if !slices.ContainsFunc(o.over, func(other schema.Override) bool { return other.Field == set.Field }) {
			sets = append(sets, set)
		}
	}
	for _, set := range o.over {
		if !set.Unset {
			sets = append(sets, set)
		}
	}
	runner.Finder.Wallet = nil
	p := resolve.Values(c.Keys, unnamed, sets, c.Environment())
	o.target = t
	o.keep = c.addLine(t, o.over, sets)
	return c.TestOne(ctx, runner, p, o)
}

// addLine returns the command that makes a profile of the target.
func (c *Call) addLine(t *target, over, sets []schema.Override) string {
	name := c.freeName(sets)
	if len(over) == 0 && strings.Contains(t.word, "://") {
		return "gharbor add " + name + " " + clean.Shell(t.word)
	}
	line := "gharbor add " + name
	for _, set := range sets {
		line += " -" + string(set.Field.Name) + " " + clean.Shell(set.Value.Text())
	}
	return line
}

// freeName proposes a profile's name: that of the database, else of the host, else of the engine, with a number where
// the name is taken.
func (c *Call) freeName(sets []schema.Override) string {
	proposed := "server"
	for _, k := range []key.Name{key.Engine, key.Host, key.Alias, key.Database} {
		for _, set := range sets {
			word, _, _ := strings.Cut(strings.ToLower(set.Value.Text()), ".")
			if set.Field.Name == k && syntax.ValidName(word) && strings.Trim(word, "0123456789") != "" {
				proposed = word
			}
		}
	}
	file, err := c.Load()
	if err != nil {
		return proposed
	}
	name := proposed
	for n := 2; file.Lookup(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", proposed, n)
	}
	return name
}
