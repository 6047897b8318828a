package base

import (
	"cmp"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
)

// source offers words for a place; typed is there already.
type source func(c *Call, typed string) Completion

// sources has each source by placeholder of a command's Args, or by flag with its dash, also with the command or its
// group before it. A test compares it with the commands.
func sources() map[string]source {
	return map[string]source{
		"PROFILE": profiles,
		"NAME":    profiles,
		"ENTRY":   entries,
		"FILE":    files,
		"SOCKET":  files,
		"CODE":    codes,
		"COMMAND": noWords, // see place
		"VERB":    noWords,

		"cloud adopt ACCOUNT/INSTANCE[/BRANCH": heads("cloud"),
		"key=value":                            assignments(func(c *Call) []schema.Field { return c.Keys.Fields() }),
		"alias key=value":                      assignments(func(c *Call) []schema.Field { return c.Keys.AliasFields() }),
		"cloud key=value":                      assignments(func(c *Call) []schema.Field { return c.Keys.CloudFields() }),
		"hop key=value":                        assignments(func(*Call) []schema.Field { return schema.HopFields() }),

		// New names, and what no file here knows.
		"add NAME": noWords, "alias add NAME": noWords, "cloud add NAME": noWords, "NEW-NAME": noWords,
		"shortcut NAME": noWords, "provision database NAME": noWords, "wallet reader NAME": noWords,
		"container adopt PROFILE": noWords, "cloud adopt PROFILE": noWords, "nearby start NAME": noWords, "URL": noWords,
		"STATEMENT": noWords, "PATTERN": noWords, "NUMBER": noWords, "ADDRESS": noWords, "cloud PART": noWords,
		"FEATURE": noWords, "RULE": noWords,

		"-as": profiles, "-against": profiles, "-bind": profiles, "-like": profiles,
		"-tag": values(key.Tags, ""), "-engine": engineWords,
		"-override": assignments(func(c *Call) []schema.Field { return c.Keys.Fields() }),

		"-file": files, "-let-file": files, "-out": files, "-bad-rows": files, "-wallet": files,
		"-passphrase-file": files, "-new-passphrase-file": files, "-other-passphrase-file": files,
		"-env-file": files, "-socket": files, "-into": files, "-mount": files,
	}
}

func noWords(*Call, string) Completion { return Completion{} }

func files(*Call, string) Completion { return Completion{Files: true} }

func fixedWords(words ...string) source {
	return func(*Call, string) Completion {
		var all Completion
		for _, word := range words {
			all.Offers = append(all.Offers, Offer{Word: word})
		}
		return all
	}
}

func engineWords(c *Call, _ string) Completion {
	var all Completion
	for _, spec := range c.Engines.All() {
		all.Offers = append(all.Offers, Offer{spec.Word, spec.Name})
	}
	return all
}

func codes(*Call, string) Completion {
	var all Completion
	for _, p := range finding.Pages() {
		all.Offers = append(all.Offers, Offer{string(p.Code), p.Summary})
	}
	return all
}

// fieldSource gives the values of a key: its words, where it has such, or what the key names.
func fieldSource(f *schema.Field) source {
	if s, ok := sources()["-"+string(f.Name)]; ok {
		return s
	}
	switch words := f.Words(); {
	case words != nil:
		return fixedWords(words...)
	case f.Address && !f.Path:
		return addressValues(f)
	case f.Source:
		return fixedWords("ask", "env:", "file:", "wallet", "keyring", "command:", "none")
	case f.Path:
		return files
	}
	return noWords
}

// assignments offers words key=value: the keys, then the values of the typed one.
func assignments(fields func(*Call) []schema.Field) source {
	return func(c *Call, typed string) (all Completion) {
		list := fields(c)
		if strings.HasPrefix(typed, "hop.") { // hop.1.host
			prefix := typed[:max(strings.LastIndexByte(typed, '.'), len("hop.")-1)+1]
			if prefix == "hop." {
				prefix = "hop.1."
			}
			list = slices.Clone(schema.HopFields())
			for i := range list {
				list[i].Name = key.Name(prefix) + list[i].Name
			}
		}
		name, value, hasValue := strings.Cut(typed, "=")
		for i := range list {
			f := &list[i]
			switch {
			case !hasValue:
				all.Offers = append(all.Offers, Offer{string(f.Name) + "=", f.Summary})
			case string(f.Name) == name:
				all = fieldSource(f)(c, value)
				for j := range all.Offers {
					all.Offers[j].Word = name + "=" + all.Offers[j].Word
				}
				return all
			}
		}
		return all
	}
}

// entries offers likely names of the wallet's entries, as the wallet itself is sealed.
func entries(c *Call, typed string) Completion {
	all := values(key.Secret, "wallet:")(c, typed)
	for _, name := range profile.Heads(c.ownFile(profile.Home.ProfilesPath), "profile") {
		all.add(name, "the usual entry of the profile")
	}
	return all
}

func (all *Completion) add(word, what string) {
	if !slices.ContainsFunc(all.Offers, func(o Offer) bool { return o.Word == word }) {
		all.Offers = append(all.Offers, Offer{word, what})
	}
}

// ownFile is the text of a file of the tool's own, "" where it can't be read.
func (c *Call) ownFile(path func(profile.Home) string) []byte {
	h, err := profile.FindHome(c.Keys, c.Lookup)
	if err != nil {
		return nil
	}
	return text(path(h))
}

// most bounds the files that completion reads: some 20,000 profiles.
const most = 4 << 20

func text(path string) []byte {
	data, err := atomicfile.Read(path, most)
	if err != nil {
		return nil
	}
	return data
}

// values offers a key's values in the user's profiles, after a prefix; of a list, its items.
func values(k key.Name, prefix string) source {
	return func(c *Call, _ string) (all Completion) {
		for _, value := range profile.Values(c.ownFile(profile.Home.ProfilesPath), string(k)) {
			if word, ok := strings.CutPrefix(value, prefix); ok {
				all.add(word, "named by a profile")
			}
		}
		return all
	}
}

// heads are the names of the tables of a kind in the user's own files.
func heads(kind string) source {
	return func(c *Call, _ string) (all Completion) {
		for _, path := range []func(profile.Home) string{profile.Home.ProfilesPath, profile.Home.AliasesPath} {
			for _, name := range profile.Heads(c.ownFile(path), kind) {
				all.Offers = append(all.Offers, Offer{Word: name})
			}
		}
		return all
	}
}

// addressValues offers values of a key that is a kind of address: the tables of that kind, and the profiles' values.
func addressValues(f *schema.Field) source {
	return func(c *Call, typed string) Completion {
		all := heads(string(f.Name))(c, typed)
		for _, o := range values(f.Name, "")(c, typed).Offers {
			all.add(o.Word, o.What)
		}
		return all
	}
}

// profiles offers the user's profiles, by the heads of their file, and the project's.
func profiles(c *Call, _ string) (all Completion) {
	for _, name := range profile.Heads(c.ownFile(profile.Home.ProfilesPath), "profile") {
		all.Offers = append(all.Offers, Offer{Word: name})
	}
	place, ok := c.projectPlace()
	if !ok {
		return all
	}
	project := text(place.Path)
	states := c.projectStates(project)
	for _, name := range profile.Heads(project, "profile") {
		own := slices.ContainsFunc(all.Offers, func(o Offer) bool { return o.Word == name })
		if own { // the user's goes before it
			name = "project:" + name
		}
		state := states[strings.TrimPrefix(name, "project:")]
		all.Offers = append(all.Offers, Offer{name, cmp.Or(state, "of the project, not approved")})
	}
	return all
}

// projectStates says which of the project's profiles were approved. It reads both files, and prints nothing.
func (c *Call) projectStates(project []byte) map[string]string {
	states := make(map[string]string)
	if len(project) == 0 || len(project) > large {
		return states
	}
	if _, err := c.Load(); err != nil {
		return states
	}
	env := c.Environment()
	for _, p := range c.Loaded.All() {
		if p.InProject() && resolve.Resolve(c.Loaded, p, nil, env).Vouched() {
			states[p.Name] = "of the project"
		}
	}
	return states
}
