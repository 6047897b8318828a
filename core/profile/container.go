package profile

import (
	"slices"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// takePlace takes a key of the table that names a compose file's service.
func (a *assembler) takePlace(p *Profile, e *entry, k string) error {
	field, line := a.schema.Field(key.Container), int(e.line)
	at := slices.Index([]string{"project", "service"}, k)
	switch {
	case at < 0:
		return a.fail(line, "%s: container: unknown key %q; expected project and service", &p.table, k)
	case e.problem != "" || e.value.Kind != schema.Text || e.value.Raw == "":
		return a.fail(line, "%s: container.%s: expected a name", &p.table, k)
	}
	for i := range p.Entries {
		own := &p.Entries[i]
		if own.Field == field && len(own.Value.Items) == 2 && own.Value.Items[at] == "" {
			own.Value.Items[at] = e.value.Raw
			return a.failPlace(p, *own)
		}
	}
	half := *e
	half.value = schema.Value{Kind: schema.NameOrLabels, Items: []string{"", ""}}
	half.value.Items[at] = e.value.Raw
	return a.assignUnchecked(&p.table, field, &half)
}

// failPlace checks a container's table once it has both its keys.
func (a *assembler) failPlace(p *Profile, own Entry) error {
	if why := own.Field.Check(own.Value); why != "" {
		return a.fail(own.Line, "%s: container: %s", &p.table, why)
	}
	return nil
}

// checkPlaces refuses a container's table that lacks one of its keys.
func (f *File) checkPlaces() error {
	for _, p := range f.Profiles {
		for _, own := range p.Entries {
			if own.Field.Kind == schema.NameOrLabels && own.Field.Check(own.Value) != "" {
				return &FileError{f.Path, own.Line, p.String() + ": container: " + own.Field.Check(own.Value)}
			}
		}
	}
	return nil
}
