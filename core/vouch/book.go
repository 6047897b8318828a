package vouch

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
)

// Book is the file that keeps what the user vouched for.
type Book struct{ Path string }

// Record is a profile of a project's file that was vouched for.
type Record struct {
	File    string    `toml:"file"` // the project's file
	Profile string    `toml:"profile"`
	Hash    string    `toml:"hash"` // of its uses, as Uses has it
	At      time.Time `toml:"at"`
	Uses    []string  `toml:"uses,multiline"` // so that a difference can be shown
}

type bookFile struct {
	Format  int      `toml:"format"` // 1
	Vouched []Record `toml:"vouched"`
}

// maxBook bounds the file: a record has some 500 bytes.
const maxBook = 16 << 20

// Records reads the book; a file that is not there has none.
func (b Book) Records() ([]Record, error) {
	data, err := atomicfile.Read(b.Path, maxBook)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, &profile.FileError{Path: b.Path, What: "cannot be read: " + atomicfile.Plain(err).Error()}
	}
	var file bookFile
	if err := toml.Unmarshal(data, &file); err != nil || file.Format != 1 {
		return nil, &profile.FileError{Path: b.Path, What: "is not as gharbor vouch writes it; remove it, and vouch again"}
	}
	return file.Vouched, nil
}

// find is the record of a project's profile.
func find(records []Record, p *profile.Resolved) *Record {
	for i, r := range records {
		if r.File == p.Path() && r.Profile == p.Profile.Name {
			return &records[i]
		}
	}
	return nil
}

// Judge is a profile.Environment's Vouch: nil where what the profile uses now is
// what was vouched for.
func (b Book) Judge(p *profile.Resolved) *finding.Finding {
	uses, state, record, err := b.state(p)
	name := p.Profile.Name
	switch {
	case err != nil:
		return finding.New("profile.not-vouched", "what was vouched for can't be read, so no project's profile is used").
			Saw("%s", clean.Line(err.Error(), 300)).
			Suggest("mv %s %s.old && gharbor vouch %s", clean.Shell(b.Path), clean.Shell(b.Path), name)
	case state == Vouched:
		p.Pin(uses.Files)
		return nil
	case state == Never:
		return profile.NotVouched(name)
	}
	found := finding.New("profile.not-vouched", "what the project's profile uses has changed since you vouched for it on %s", record.At.Local().Format(time.DateOnly))
	for _, line := range Difference(record.Uses, uses.Lines) {
		found.Saw("%s", clean.Line(line, 300))
	}
	return found.Suggest("gharbor vouch %s   # shows what it would use, and asks", name)
}

// State says whether a profile was vouched for.
type State string

// The states.
const (
	Never   State = "not vouched"
	Lapsed  State = "lapsed"
	Vouched State = "vouched"
)

func (b Book) state(p *profile.Resolved) (Uses, State, *Record, error) {
	records, err := b.Records()
	if err != nil {
		return Uses{}, Never, nil, err
	}
	record := find(records, p)
	if record == nil {
		return Uses{}, Never, nil, nil // nothing of it is looked at
	}
	uses := Of(p)
	if uses.Hash != record.Hash || uses.Trouble != "" {
		return uses, Lapsed, record, nil
	}
	return uses, Vouched, record, nil
}

// StateOf says whether a sealed profile was vouched for, and what was then.
func (b Book) StateOf(p *profile.Resolved) (State, *Record, error) {
	_, state, record, err := b.state(p)
	return state, record, err
}

// Difference lists uses that are gone, with a minus sign, and new ones, with a
// plus sign.
func Difference(before, after []string) []string {
	var lines []string
	for _, line := range before {
		if !slices.Contains(after, line) {
			lines = append(lines, "- "+line)
		}
	}
	for _, line := range after {
		if !slices.Contains(before, line) {
			lines = append(lines, "+ "+line)
		}
	}
	return lines
}

// Add records profiles as vouched for, in place of what was recorded of them.
func (b Book) Add(ctx context.Context, records ...Record) error {
	return b.change(ctx, func(all []Record) []Record {
		for _, r := range records {
			all = slices.DeleteFunc(all, func(o Record) bool { return o.File == r.File && o.Profile == r.Profile })
			all = append(all, r)
		}
		return all
	})
}

// Withdraw drops records, and returns those that there were.
func (b Book) Withdraw(ctx context.Context, file string, names []string) ([]Record, error) {
	var gone []Record
	err := b.change(ctx, func(all []Record) []Record {
		return slices.DeleteFunc(all, func(r Record) bool {
			drop := r.File == file && (len(names) == 0 || slices.Contains(names, r.Profile))
			if drop {
				gone = append(gone, r)
			}
			return drop
		})
	})
	return gone, err
}

func (b Book) change(ctx context.Context, change func([]Record) []Record) error {
	unlock, err := atomicfile.Lock(ctx, b.Path)
	if err != nil {
		return &profile.FileError{Path: b.Path, What: atomicfile.Plain(err).Error()}
	}
	defer unlock()
	all, err := b.Records()
	if err != nil {
		return err
	}
	all = change(all)
	slices.SortFunc(all, func(a, b Record) int { return strings.Compare(a.File+"\n"+a.Profile, b.File+"\n"+b.Profile) })
	data, err := toml.Marshal(bookFile{Format: 1, Vouched: all})
	if err != nil {
		return err
	}
	return profile.WriteFile(b.Path, data)
}

// Together is one hash for several profiles, for CI: the SHA-256 of their names
// and hashes.
func Together(all []Uses) string {
	lines := make([]string, len(all))
	for i, u := range all {
		lines[i] = u.Profile + " " + u.Hash
	}
	slices.Sort(lines)
	return sum(strings.Join(lines, "\n"))
}
