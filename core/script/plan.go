package script

import (
	"errors"
	"io"

	"gentleharbor/core/engine"
	"gentleharbor/core/statement"
)

// Plan is what a script would do, by the words of its statements.
type Plan struct {
	Statements int
	Bytes      int64           // of the files, packed ones as they are
	Effects    []PlannedAction // each deed to each thing once
	Risks      []Risk          // what else a guard asks about, beside dropping and emptying
	Databases  []Item          // that it connects to
	Commits    *Place          // the first statement that ends a transaction; nil for none

	// From is the place where sending begins: items before it are not planned. The zero Place is the start.
	From  Place
	begun bool

	seen map[effectKey]int
	made map[object]bool
}

// begins reports whether an item is sent, and not only read.
func (p *Plan) begins(item *Item) bool {
	p.begun = p.begun || p.From.reached(item.Place)
	return p.begun
}

// PlannedAction is an action on a thing, with its first place.
type PlannedAction struct {
	Place
	Deed  statement.Action
	Kind  string
	Name  statement.Name
	Times int
	Sure  bool // it fails where the thing is there, or is not
	Own   bool // the script has made the thing itself before
}

// Risk is a statement that may destroy something.
type Risk struct {
	Place
	Why string
}

type object struct {
	kind string
	name statement.Name
}

type effectKey struct {
	deed statement.Action
	object
}

// maxRisks bounds the risks that are listed.
const maxRisks = 1000

// Scan reads a script, which may be one of several, to its end. Its error is an *Error where the script can't be run.
func (p *Plan) Scan(r *Reader, by *engine.Statements) error {
	if p.seen == nil {
		p.seen, p.made = make(map[effectKey]int), make(map[object]bool)
	}
	for {
		item, err := r.Next()
		if errors.Is(err, io.EOF) {
			p.Bytes += r.Bytes()
			return nil
		}
		if err != nil {
			return err
		}
		switch begun := p.begins(item); {
		case item.Database != "":
			p.Databases = append(p.Databases, Item{Place: item.Place, Database: item.Database})
		case item.Piece != nil && begun:
			p.add(item, by)
		}
		if item.Data != nil {
			if _, err := io.Copy(io.Discard, item.Data); err != nil {
				return &Error{item.Place, "its data cannot be read: " + err.Error(), err}
			}
		}
	}
}

// add adds a statement.
func (p *Plan) add(item *Item, by *engine.Statements) {
	p.Statements++
	words := item.Piece.Words
	if p.Commits == nil && statement.Commits(words, by) {
		at := item.Place
		p.Commits = &at
	}
	effects := statement.Effects(item.Piece, by)
	known := false
	for _, e := range effects {
		known = known || e.Deed == statement.Drops || e.Deed == statement.Empties
		for _, name := range e.Names {
			p.plan(item.Place, e, name)
		}
	}
	if why := statement.Risk(words, by); why != "" && !known && len(p.Risks) < maxRisks {
		p.Risks = append(p.Risks, Risk{item.Place, why})
	}
}

func (p *Plan) plan(at Place, e statement.Effect, name statement.Name) {
	what := object{e.Kind, name}
	key := effectKey{e.Deed, what}
	if i, again := p.seen[key]; again {
		p.Effects[i].Times++
	} else {
		p.seen[key] = len(p.Effects)
		p.Effects = append(p.Effects, PlannedAction{
			Place: at, Deed: e.Deed, Kind: e.Kind, Name: name, Times: 1, Sure: e.Sure, Own: p.made[what],
		})
	}
	switch e.Deed {
	case statement.Makes:
		p.made[what] = true
	case statement.Drops:
		delete(p.made, what)
	}
}

// Destroys are the things that the script drops or empties and did not make itself.
func (p *Plan) Destroys() (all []PlannedAction) {
	for _, e := range p.Effects {
		if (e.Deed == statement.Drops || e.Deed == statement.Empties) && !e.Own {
			all = append(all, e)
		}
	}
	return all
}
