package wallet

import (
	"fmt"
	"slices"

	"gentleharbor/core/binding"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
)

// Match returns the entry for a connection, or the reason why there is none.
func (w *Wallet) Match(q secret.Query) (*Entry, *finding.Finding) { return w.match(q) }

// match finds the entry for a connection: the one named, else the one bound to the profile, else the one bound to the
// address.
func (w *Wallet) match(q secret.Query) (*Entry, *finding.Finding) {
	if q.Source.Kind == "wallet" && q.Source.Arg != "" {
		return w.entryNamed(q)
	}
	var fits []*Entry
	var near []string
	var wanted [][]byte
	for _, word := range binding.Words(q) {
		wanted = append(wanted, mustJSON(word))
	}
	for i := range w.Entries {
		e := &w.Entries[i]
		if !slices.ContainsFunc(wanted, e.mentions) {
			continue
		}
		if err := w.unfold(e); err != nil {
			return nil, err.(*secret.Failure).Found
		}
		own := q.Kind == secret.OfDatabase && !q.Project &&
			slices.ContainsFunc(e.Bindings, func(b binding.Binding) bool { return b.Profile == q.Profile })
		why := e.objection(q)
		switch {
		case why == "" && own:
			return e, nil // bound to this very profile
		case why == "":
			fits = append(fits, e)
		case own && e.serves(q):
			return nil, w.elsewhere(e, q, why)
		case own || slices.ContainsFunc(e.Bindings, func(b binding.Binding) bool { return b.Near(q) }):
			near = append(near, fmt.Sprintf("entry %s: %s", e.Name, why))
		}
	}
	if len(fits) > 1 { // one that names the user is meant rather than one that names none
		if particular := slices.DeleteFunc(slices.Clone(fits),
			func(e *Entry) bool { return e.User == "" }); len(particular) == 1 {
			fits = particular
		}
	}
	switch len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		found := finding.New(finding.SecretNoMatch, "no entry of the wallet %s is for this connection",
			w.File.Path)
		for _, line := range near[:min(len(near), 3)] {
			found.Saw("%s", line)
		}
		if len(near) == 0 && len(q.Aliases) > 0 {
			found.Saw("none of its %d %s is for the alias %s",
				len(w.Entries), entries(len(w.Entries)), q.Aliases[0].Name)
		} else if len(near) == 0 {
			found.Saw("none of its %d %s is for %s",
				len(w.Entries), entries(len(w.Entries)), clean.Quote(q.AddressText()))
		}
		return nil, found.Suggest("gharbor wallet keep %s -bind %s", entryName(q), clean.Shell(binding.Word(q)))
	}
	found := finding.New(finding.SecretAmbiguous, "several entries of the wallet %s are for this connection",
		w.File.Path)
	for _, e := range fits[:min(len(fits), 5)] {
		found.Saw("entry %s matches", e.Name)
	}
	return nil, found.Suggest("gharbor set %s %s=wallet:%s", q.Profile, q.SettingKey(), fits[0].Name)
}

func entries(n int) string {
	if n == 1 {
		return "entry"
	}
	return "entries"
}

// entryNamed is the entry that the profile's source names.
func (w *Wallet) entryNamed(q secret.Query) (*Entry, *finding.Finding) {
	e := w.Entry(q.Source.Arg)
	if e == nil {
		found := finding.New(finding.SecretMissing, "the wallet %s has no entry %s",
			w.File.Path, clean.Quote(q.Source.Arg))
		if near := w.Near(q.Source.Arg); near != "" {
			found.Saw("the nearest name is %s", near)
		}
		return nil, found.Suggest("gharbor wallet keep %s -bind %s",
			clean.Shell(q.Source.Arg), clean.Shell(binding.Word(q)))
	}
	if err := w.unfold(e); err != nil {
		return nil, err.(*secret.Failure).Found
	}
	if len(e.Bindings) == 0 && !q.Project && e.serves(q) && binding.ObjectUnbound(q) == "" {
		return e, nil // the user's own profile names it; audit says that it is bound to nothing
	}
	if why := e.objection(q); why != "" {
		return nil, w.elsewhere(e, q, why)
	}
	return e, nil
}

// serves reports whether the entry is the password of the user who logs in.
func (e *Entry) serves(q secret.Query) bool { return e.User == "" || e.User == q.User }

// objection says why an entry may not be sent, "" where it may.
func (e *Entry) objection(q secret.Query) string {
	if !e.serves(q) {
		return fmt.Sprintf("it is the password of %s; this is %s", clean.Quote(e.User), clean.Quote(q.User))
	}
	why := "it is tied to no server"
	for i, b := range e.Bindings {
		objection := b.Objection(q)
		if objection == "" {
			return ""
		}
		if i == 0 || b.Near(q) {
			why = objection
		}
	}
	if told := binding.ObjectUnbound(q); len(e.Bindings) == 0 && told != "" {
		return told
	}
	return why
}

// elsewhere refuses an entry. No other source is tried after that.
func (w *Wallet) elsewhere(e *Entry, q secret.Query, why string) *finding.Finding {
	return finding.New(finding.SecretBoundElsewhere, "the wallet's entry %s may not be sent there: %s", e.Name,
		clean.Line(why, 0)).
		Saw("the profile is %s, the address %s", q.Profile, clean.Quote(q.AddressText())).
		Suggest("gharbor wallet bind %s %s   # after making sure that this is where it belongs", e.Name,
			clean.Shell(binding.Word(q)))
}

// entryName is a name for a new entry.
func entryName(q secret.Query) string {
	if q.Kind == secret.OfDatabase {
		return q.Profile
	}
	return q.Profile + "-" + q.Kind
}
