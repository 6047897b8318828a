package handover

import (
	"fmt"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/profile/key"
)

// Variables are what the engine's own clients and libraries read, without a
// password.
func (c *Connection) Variables() []engine.Variable {
	if c.Spec.Client.Variables == nil {
		return nil
	}
	return c.Spec.Client.Variables(&c.Connection)
}

// ExportVariables returns the variables for a file that a program reads: those of the engine's clients, or the neutral
// ones, and the password where there is one.
func (c *Connection) ExportVariables() []engine.Variable {
	all := c.Variables()
	if len(all) == 0 {
		all = c.Neutral()
	}
	if c.Spec.Client.Extra != nil {
		all = append(all, c.Spec.Client.Extra(&c.Connection)...)
	}
	if name := c.Spec.Client.Password; name != "" && c.Password.Present() {
		all = append(all, engine.Variable{Name: name, Value: c.Password.Disclose(), Secret: true})
	}
	return all
}

// Neutral are the variables that are the same for every engine, and the profile's name.
func (c *Connection) Neutral() []engine.Variable {
	all := []engine.Variable{{Name: "GHARBOR_PROFILE", Value: c.Profile}}
	values := c.Values()
	values[key.Host], values[key.Port], values[key.Socket] = c.Host(), c.Port(), c.Socket()
	for _, k := range key.ForPrograms() {
		if (k == key.Service || k == key.Instance) && c.Spec.Listener == nil {
			continue
		}
		all = append(all, engine.Variable{Name: k.Variable(), Value: values[k]})
	}
	return all
}

// PasswordVariable is the variable that the engine's clients take a password
// from, "" where there is none.
func (c *Connection) PasswordVariable() string { return c.Spec.Client.Password }

// Inherited reports whether a variable of the environment is the engine's, and so
// must not reach the program: it would change where the connection leads.
func (c *Connection) Inherited(name string) bool {
	for _, v := range c.Neutral() {
		if name == v.Name {
			return true
		}
	}
	for _, prefix := range c.Spec.Client.Cleared {
		if strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}

// Files writes the engine's credential file into folder, which must be private,
// and returns its path and the variables that lead to it. Where the engine has no
// such file, or there is no password, the path is "".
func (c *Connection) Files(folder string) (path string, variables []engine.Variable, err error) {
	if c.Spec.Client.Files != nil {
		return c.Spec.Client.Files(&c.Connection, folder)
	}
	if name := c.Spec.Client.Password; c.Password.Present() && name != "" {
		variables = []engine.Variable{{Name: name, Value: c.Password.Disclose(), Secret: true}}
	}
	return "", variables, nil
}

// Placeholder is what a word in braces stands for in a program's arguments. err
// says why one that has a meaning has none here.
func (c *Connection) Placeholder(engines engine.Set, name, file string) (value string, known bool, err error) {
	switch name {
	case "host":
		return c.Host(), true, nil
	case "port":
		return c.Port(), true, nil
	case "user":
		return c.User, true, nil
	case "database":
		return c.Database, true, nil
	case "socket":
		if c.Socket() == "" {
			return "", true, fmt.Errorf("{socket}: the profile %s is at a host, not at a socket", c.Profile)
		}
		return c.Socket(), true, nil
	case "password", "passwd", "pass", "secret":
		return "", true, fmt.Errorf("there is no placeholder for the password: everybody on this machine can read " +
			"arguments (ps). The program gets it in its environment")
	}
	return c.filePlaceholder(engines, name, file)
}

// filePlaceholder is the path of the engine's credential file, by the engine's word for it.
func (c *Connection) filePlaceholder(engines engine.Set, name, file string) (value string, known bool, err error) {
	for _, spec := range engines.All() {
		client := spec.Client
		switch {
		case name == "" || client.Placeholder != name:
		case c.Spec.Client.Placeholder != name:
			return "", true, fmt.Errorf("{%s} is %s; the profile %s is for %s",
				name, client.File, c.Profile, c.Spec.Word)
		case file == "":
			return "", true, fmt.Errorf("{%s}: the profile %s has no password to put into one", name, c.Profile)
		default:
			return file, true, nil
		}
	}
	return "", false, nil
}

// Words puts values in place of the placeholders of a program's words. A word in
// braces that is none of them stays as it is.
func (c *Connection) Words(engines engine.Set, words []string, file string) ([]string, error) {
	out := make([]string, len(words))
	for i, word := range words {
		var b strings.Builder
		for {
			open := strings.IndexByte(word, '{')
			shut := strings.IndexByte(word[max(open, 0):], '}')
			if open < 0 || shut < 0 {
				break
			}
			shut += open
			value, known, err := c.Placeholder(engines, word[open+1:shut], file)
			if err != nil {
				return nil, err
			}
			b.WriteString(word[:open])
			if known {
				b.WriteString(value)
				word = word[shut+1:]
			} else {
				b.WriteByte('{')
				word = word[open+1:]
			}
		}
		b.WriteString(word)
		out[i] = b.String()
	}
	return out, nil
}
