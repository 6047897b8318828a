package resolve

import (
	"slices"

	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// Selection chooses among profiles. The zero value has all of them.
type Selection struct {
	Tag    string // "" for any
	Engine string // its word, "" for any
}

// Has reports whether a profile is chosen.
func (s Selection) Has(r *Profile) bool {
	if s.Engine != "" && r.Text(key.Engine) != s.Engine {
		return false
	}
	return s.Tag == "" || slices.Contains(tagsOf(r), s.Tag)
}

func tagsOf(r *Profile) []string {
	if tags, ok := r.Get(key.Tags); ok {
		return tags.Value.List()
	}
	return nil
}

// SelectedProfiles are the profiles of a selection.
type SelectedProfiles struct {
	Profiles   []*Profile // with what is overridden
	NotVouched int        // how many of a project's were left out, as nobody vouched for them
	Tags       []string   // of all profiles, for the nearest name
}

// Choose chooses among the profiles of a file by what the file says: overrides do not change which are chosen.
func (s Selection) Choose(file *profile.File, over []schema.Override, env Environment) (all SelectedProfiles) {
	for _, p := range file.All() {
		plain := Resolve(file, p, nil, env)
		all.Tags = append(all.Tags, tagsOf(plain)...)
		switch {
		case !s.Has(plain):
		case !plain.Vouched():
			all.NotVouched++
		case len(over) == 0: // once is enough: a project's profile is hashed each time
			all.Profiles = append(all.Profiles, plain)
		default:
			all.Profiles = append(all.Profiles, Resolve(file, p, over, env))
		}
	}
	return all
}
