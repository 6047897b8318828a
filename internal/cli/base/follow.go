package base

import (
	"flag"
	"io"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/schema"
)

// FollowUp has the flags of a run that the commands to try must repeat, as they are about the same connection.
type FollowUp struct {
	Over    Overrides
	Timeout time.Duration // 0 where none was given
	As      string        // the administrator's profile, "" where none was given
	// Target is the tested URL, address or alias as it was typed; "" for a profile.
	Target string
}

// Follow adds the flags of a run to the commands to try of its finding. A command that sets a key becomes a test with
// the new value where the run had another value for the key: to set it in the profile would not change such a run.
func (c *Call) Follow(f FollowUp, profile string, found *finding.Finding) {
	if found == nil || len(f.Over) == 0 && f.Timeout == 0 && f.As == "" && f.Target == "" {
		return
	}
	all := []string{}
	for _, line := range found.Try {
		command, comment, _ := strings.Cut(line, commentSign)
		if command = c.follow(f, profile, command); command == "" {
			continue
		}
		if comment != "" {
			command += commentSign + comment
		}
		all = append(all, command)
	}
	found.Try = all
	if f.Target != "" {
		found.Do = f.targetSteps(profile, found.Do)
	}
}

// targetSteps changes steps about a profile to steps about a target, and leaves out those that only a profile has.
func (f FollowUp) targetSteps(profile string, steps []string) []string {
	all := []string{}
	for _, step := range steps {
		step = strings.Replace(step, "gharbor set "+profile+" ", "gharbor test "+clean.Shell(f.Target)+" -override ", 1)
		step = strings.Replace(step, "gharbor test "+profile, "gharbor test "+clean.Shell(f.Target), 1)
		if !strings.Contains(step+" ", " "+profile+" ") {
			all = append(all, step)
		}
	}
	return all
}

// commentSign is between a command to try and its comment.
const commentSign = "   # "

// follow adds the flags of the run to a command; it is "" for one that needs a profile where there is none.
func (c *Call) follow(f FollowUp, profile, command string) string {
	words := strings.Fields(command)
	name := 2 // where the profile stands
	if len(words) > 3 && (words[1] == "provision" || words[1] == "secret") {
		name = 3
	}
	if len(words) < 3 || words[0] != "gharbor" || words[name] != profile || strings.Contains(command, "&&") {
		if f.Target != "" && strings.Contains(command+" ", " "+profile+" ") {
			return ""
		}
		return command
	}
	if f.Target != "" {
		if words[1] != "set" && words[1] != "test" {
			return ""
		}
		words[2] = clean.Shell(f.Target)
		command = strings.Join(words, " ")
	}
	over := f.Over
	if words[1] == "set" {
		sets, err := c.settings(words[3:])
		if f.Target == "" && (err != nil || !over.any(sets)) {
			return command
		}
		over, words = over.replace(sets), []string{"gharbor", "test", words[2]}
		command = strings.Join(words, " ")
	}
	flags := c.flagsOf(strings.Join(words[1:name], " "))
	var own Overrides // those that the command has already
	for i, word := range words {
		if word == "-override" && i+1 < len(words) {
			more, _ := c.settings(words[i+1 : i+2])
			own = append(own, more...)
		}
	}
	if flags["override"] {
		for _, o := range over {
			if !own.any([]schema.Override{o}) {
				command += " -override " + clean.Shell(o.String())
			}
		}
	}
	if flags["timeout"] && f.Timeout > 0 && !strings.Contains(command, " -timeout ") {
		command += " -timeout " + f.Timeout.String()
	}
	if flags["as"] && f.As != "" && !strings.Contains(command, " -as ") {
		command += " -as " + f.As
	}
	return command
}

// settings reads words key=value, which may be quoted for a shell.
func (c *Call) settings(words []string) (all []schema.Override, err error) {
	for _, word := range words {
		one, err := keyValue(c.Keys, strings.ReplaceAll(word, "'", ""))
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, nil
}

// any reports whether one of sets is for a key with an override.
func (o Overrides) any(sets []schema.Override) bool {
	for _, have := range o {
		for _, set := range sets {
			if have.Field == set.Field && have.Hop == set.Hop {
				return true
			}
		}
	}
	return false
}

// replace returns the overrides, with others in place of those for the same keys.
func (o Overrides) replace(sets []schema.Override) Overrides {
	var all Overrides
	for _, have := range o {
		if !(Overrides{have}).any(sets) {
			all = append(all, have)
		}
	}
	return append(all, sets...)
}

// flagsOf are the names of a command's flags.
func (c *Call) flagsOf(command string) map[string]bool {
	names := make(map[string]bool)
	group, verb, _ := strings.Cut(command, " ")
	for _, m := range c.Makers {
		if m.Name != group {
			continue
		}
		cmd := m.Make()
		if cmd.Verbs != nil {
			for _, v := range cmd.Verbs() {
				if v.Name == group+" "+verb {
					cmd = v
				}
			}
		}
		if cmd.Flags != nil {
			fs := newFlagSet(cmd, c.Keys)
			fs.SetOutput(io.Discard)
			cmd.Flags(fs)
			fs.VisitAll(func(f *flag.Flag) { names[f.Name] = true })
		}
	}
	return names
}
