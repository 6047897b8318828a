package vouch

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"

	"gentleharbor/core/alias"
	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/owner"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// Book is the file of what the user vouched for. It is read once, however many profiles are judged.
type Book struct {
	Path string
	kept *bookContents // nil where the file is read each time
}

// bookContents is what was read of the file.
type bookContents struct {
	mu      sync.Mutex
	known   bool
	records []Record
}

// NewBook is the book at a path, for one run of the program.
func NewBook(path string) Book { return Book{Path: path, kept: &bookContents{}} }

// Record is a profile of a project's file that was vouched for.
type Record struct {
	File    string    `toml:"file"` // the project's file
	Profile string    `toml:"profile"`
	Hash    string    `toml:"hash"` // of its uses, as Uses has it
	At      time.Time `toml:"at"`
	Uses    []string  `toml:"uses,multiline"` // so that a difference can be shown
}

type bookFile struct {
	Format  int      `toml:"format"` // bookFormat
	Vouched []Record `toml:"vouched"`
}

// bookFormat is the number at the head of the file. Format 1 had hashes of the shown text, which did not notice some
// changes: its records are not valid, and are dropped at the next write.
const bookFormat = 2

// maxBook bounds the file: a record has some 500 bytes.
const maxBook = 16 << 20

// Records are the book's records; a missing file has none.
func (b Book) Records() ([]Record, error) {
	if b.kept == nil {
		return b.read()
	}
	b.kept.mu.Lock()
	defer b.kept.mu.Unlock()
	if !b.kept.known {
		records, err := b.read()
		if err != nil {
			return nil, err
		}
		b.kept.records, b.kept.known = records, true
	}
	return slices.Clone(b.kept.records), nil
}

// forget makes the next question read the file again.
func (b Book) forget() {
	if b.kept != nil {
		b.kept.mu.Lock()
		b.kept.known = false
		b.kept.mu.Unlock()
	}
}

func (b Book) read() ([]Record, error) {
	data, err := atomicfile.Read(b.Path, maxBook)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, &profile.FileError{Path: b.Path, What: "cannot be read: " + atomicfile.Plain(err).Error()}
	}
	if info, err := os.Stat(b.Path); err == nil {
		if why := owner.Unsafe(info); why != "" { // whoever may write it may vouch in the user's place
			return nil, &profile.FileError{Path: b.Path, What: why + ", so it is ignored; remove it and approve again"}
		}
	}
	var file bookFile
	err = toml.Unmarshal(data, &file)
	if err == nil && file.Format == 1 {
		return nil, nil
	}
	if err != nil || file.Format != bookFormat {
		return nil, &profile.FileError{Path: b.Path, What: "was not written by gharbor vouch; remove it and " +
			"approve again"}
	}
	return file.Vouched, nil
}

// find returns the record of a profile, or of an alias by its word, of a project's file.
func find(records []Record, path, name string) *Record {
	for i, r := range records {
		if r.File == path && r.Profile == name {
			return &records[i]
		}
	}
	return nil
}

// Judge is the Vouch of a resolve.Environment. It returns nil where the profile uses the same as when the user
// vouched for it.
func (b Book) Judge(p *resolve.Profile) *finding.Finding {
	uses, state, record, err := b.state(p.Path(), p.Profile.Name, func() Uses { return FindUses(p) })
	switch {
	case err == nil && state == Vouched:
		p.Pin(uses.Files)
		return nil
	case err == nil && state == Never:
		return resolve.NotVouched(p.Profile.Name)
	case err != nil:
		return b.unreadable(finding.ProfileNotVouched, "no project's profile is used", p.Profile.Name, err)
	}
	return explainLapse(finding.ProfileNotVouched, "what the project's profile uses", p.Profile.Name, record, uses)
}

// JudgeAlias returns no finding where an alias of a project's file uses the same as when the user vouched for it. It
// returns the hashed bytes of the files that the alias names.
func (b Book) JudgeAlias(a *profile.Alias, home string) (map[string][]byte, *finding.Finding) {
	word := AliasWord + a.Name
	uses, state, record, err := b.state(a.Path(), word, func() Uses { return aliasUses(a, home) })
	switch {
	case err == nil && state == Vouched:
		return uses.Files, nil
	case err == nil && state == Never:
		return nil, alias.NotVouched(a)
	case err != nil:
		return nil, b.unreadable(finding.AliasNotVouched, "no project's alias is used", word, err)
	}
	return nil, explainLapse(finding.AliasNotVouched,
		fmt.Sprintf("where the project's alias %s leads", a.Name), word, record,
		uses)
}

// JudgeCloud returns no finding where a cloud account of a project's file uses the same as when the user vouched for
// it. It returns the hashed bytes of the files that the account names.
func (b Book) JudgeCloud(one *profile.Cloud, home string) (map[string][]byte, *finding.Finding) {
	word := CloudWord + one.Name
	uses, state, record, err := b.state(one.Path(), word, func() Uses { return cloudUses(one, home) })
	switch {
	case err == nil && state == Vouched:
		return uses.Files, nil
	case err == nil && state == Never:
		return nil, finding.New(finding.CloudNotVouched,
			"the cloud account %s is from a project's file, and you have not approved it", one.Name).
			Suggest("gharbor vouch %s   # shows what it would use, and asks", word)
	case err != nil:
		return nil, b.unreadable(finding.CloudNotVouched, "no project's cloud account is used", word, err)
	}
	return nil, explainLapse(finding.CloudNotVouched, "what the project's cloud account uses", word, record, uses)
}

func (b Book) unreadable(code finding.Code, so, name string, err error) *finding.Finding {
	return finding.New(code, "the approvals can't be read, so %s", so).
		Saw("%s", clean.Line(err.Error(), 300)).
		Suggest("mv %s %s.old && gharbor vouch %s", clean.Shell(b.Path), clean.Shell(b.Path), name)
}

// explainLapse returns the finding for uses that have changed since, with the difference.
func explainLapse(code finding.Code, what, name string, record *Record, uses Uses) *finding.Finding {
	found := finding.New(code, "%s has changed since you approved it on %s", what, record.At.Local().
		Format(time.DateOnly))
	for _, line := range record.Difference(uses) {
		found.Saw("%s", clean.Line(line, 600))
	}
	return found.Suggest("gharbor vouch %s   # shows what it would use, and asks", name)
}

// State reports whether a profile was vouched for.
type State string

// The states.
const (
	Never   State = "not vouched"
	Lapsed  State = "lapsed"
	Vouched State = "vouched"
)

func (b Book) state(path, name string, of func() Uses) (Uses, State, *Record, error) {
	records, err := b.Records()
	if err != nil {
		return Uses{}, Never, nil, err
	}
	record := find(records, path, name)
	if record == nil {
		return Uses{}, Never, nil, nil // nothing of it is looked at
	}
	uses := of()
	if uses.Hash != record.Hash || uses.Trouble != "" {
		return uses, Lapsed, record, nil
	}
	return uses, Vouched, record, nil
}

// Item is a profile or an alias of a project's file that can be vouched for.
type Item struct {
	Name string // "tides", "alias:archive"
	Path string // of the file
	Line int    // 0 where it is the whole file
	Uses func() Uses
}

// Title is the item for people: "profile "tides"".
func (i Item) Title() string {
	if i.Line == 0 || strings.HasPrefix(i.Name, AliasWord) || strings.HasPrefix(i.Name, CloudWord) {
		return i.Name
	}
	return fmt.Sprintf("profile %q", i.Name)
}

// ProfileItem is a sealed profile as one.
func ProfileItem(p *resolve.Profile) Item {
	return Item{Name: p.Profile.Name, Path: p.Path(), Line: p.Profile.Line, Uses: func() Uses { return FindUses(p) }}
}

// AliasItem makes an item of an alias; home is the user's home folder.
func AliasItem(a *profile.Alias, home string) Item {
	return Item{Name: AliasWord + a.Name, Path: a.Path(), Line: a.Line, Uses: func() Uses { return aliasUses(a, home) }}
}

// CloudItem makes an item of a cloud account; home is the user's home folder.
func CloudItem(one *profile.Cloud, home string) Item {
	return Item{Name: CloudWord + one.Name, Path: one.Path(), Line: one.Line,
		Uses: func() Uses { return cloudUses(one, home) }}
}

// StateOf reports whether something was vouched for, and returns the record.
func (b Book) StateOf(i Item) (State, *Record, error) {
	_, state, record, err := b.state(i.Path, i.Name, i.Uses)
	return state, record, err
}

// Add records profiles as vouched for, in place of their earlier records.
func (b Book) Add(ctx context.Context, records ...Record) error {
	return b.change(ctx, func(all []Record) []Record {
		for _, r := range records {
			all = slices.DeleteFunc(all, func(o Record) bool { return o.File == r.File && o.Profile == r.Profile })
			all = append(all, r)
		}
		return all
	})
}

// Withdraw drops the records of a file's items, all of them where none is named, and returns the dropped ones.
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
	if err := os.MkdirAll(filepath.Dir(b.Path), 0o700); err != nil { // who vouches first has none yet
		return &profile.FileError{Path: b.Path, What: atomicfile.Plain(err).Error()}
	}
	unlock, err := atomicfile.Lock(ctx, b.Path)
	if err != nil {
		return &profile.FileError{Path: b.Path, What: atomicfile.Plain(err).Error()}
	}
	defer unlock()
	defer b.forget()
	all, err := b.read()
	if err != nil {
		return err
	}
	all = change(all)
	slices.SortFunc(all, func(a, b Record) int { return strings.Compare(a.File+"\n"+a.Profile, b.File+"\n"+b.Profile) })
	data, err := toml.Marshal(bookFile{Format: bookFormat, Vouched: all})
	if err != nil {
		return err
	}
	return profile.WriteFile(b.Path, data)
}

// Difference lists what has changed since a record was made: uses that are gone with a minus sign, and new ones with
// a plus sign.
func (r *Record) Difference(now Uses) []string { return difference(r.Uses, now.Lines()) }

func difference(before, after []string) []string {
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
