package rotation

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// world is a server and a source, and what goes wrong with them.
type world struct {
	server  PasswordChoice // the password that it takes
	source  PasswordChoice
	pending bool
	neither bool // it takes no password at all
	steps   []string
	fail    map[string]error // by step, once each
	lost    bool             // the change is made, and the answer lost
}

func (w *world) step(name string) error {
	w.steps = append(w.steps, name)
	err := w.fail[name]
	delete(w.fail, name)
	return err
}

func (w *world) do() Steps {
	return Steps{
		Keep: func(context.Context) error {
			if err := w.step("keep"); err != nil {
				return err
			}
			w.pending = true
			return nil
		},
		Change: func(_ context.Context, to PasswordChoice) error {
			err := w.step(fmt.Sprint("change ", to))
			if err == nil || w.lost {
				w.server = to
			}
			return err
		},
		Accepts: func(_ context.Context, one PasswordChoice) (bool, error) {
			if err := w.step(fmt.Sprint("accepts ", one)); err != nil {
				return false, err
			}
			return w.server == one && !w.neither, nil
		},
		Adopt: func(context.Context) error {
			if err := w.step("adopt"); err != nil {
				return err
			}
			w.source, w.pending = New, false
			return nil
		},
		Drop: func(context.Context) error {
			if err := w.step("drop"); err != nil {
				return err
			}
			w.pending = false
			return nil
		},
	}
}

func TestRun(t *testing.T) {
	refused, lost, down := &engine.StatementError{Message: "no right"}, &engine.LostError{Err: errors.New("reset")}, errors.New("unreachable")
	for name, c := range map[string]struct {
		world
		is   error
		open bool
		want string // the steps
	}{
		"all well":                     {want: "keep, change 1, accepts 1, adopt"},
		"no room on the disk":          {world: world{fail: map[string]error{"keep": down}}, is: down, want: "keep"},
		"refused":                      {world: world{fail: map[string]error{"change 1": refused}}, is: refused, want: "keep, change 1, drop"},
		"the answer lost, and done":    {world: world{lost: true, fail: map[string]error{"change 1": lost}}, want: "keep, change 1, accepts 1, adopt"},
		"the answer lost, not done":    {world: world{fail: map[string]error{"change 1": lost}}, is: lost, want: "keep, change 1, accepts 1, accepts 0, drop"},
		"the server gone":              {world: world{fail: map[string]error{"change 1": lost, "accepts 1": down}}, is: down, open: true, want: "keep, change 1, accepts 1"},
		"unreachable for the proof":    {world: world{fail: map[string]error{"accepts 1": down}}, is: down, open: true, want: "keep, change 1, accepts 1"},
		"a pooler with a list":         {world: world{neither: true}, is: ErrNeither, open: true, want: "keep, change 1, accepts 1, change 0, accepts 0"},
		"not adopted":                  {world: world{fail: map[string]error{"adopt": down}}, is: down, open: true, want: "keep, change 1, accepts 1, adopt"},
		"not set back":                 {world: world{neither: true, fail: map[string]error{"change 0": down}}, is: down, open: true, want: "keep, change 1, accepts 1, change 0"},
		"the old one not to be judged": {world: world{neither: true, fail: map[string]error{"accepts 0": down}}, is: down, open: true, want: "keep, change 1, accepts 1, change 0, accepts 0"},
	} {
		w := &c.world
		err := Run(t.Context(), w.do())
		var open *OpenError
		if errors.As(err, &open) != c.open || c.is == nil != (err == nil) || c.is != nil && !errors.Is(err, c.is) || strings.Join(w.steps, ", ") != c.want {
			t.Errorf("%s: %v after %s", name, err, strings.Join(w.steps, ", "))
		}
		if !c.open && (w.pending || w.server != w.source) {
			t.Errorf("%s: the server takes %d, the source has %d, pending %v", name, w.server, w.source, w.pending)
		}
		if open != nil && !strings.Contains(open.Error(), "both passwords are kept") {
			t.Error(open)
		}
	}
	w := &world{}
	s := w.do()
	answers := []bool{false, true} // not with the new one, and then with the old one
	s.Accepts = func(context.Context, PasswordChoice) (bool, error) {
		in := answers[0]
		answers = answers[1:]
		return in, nil
	}
	if err := Run(t.Context(), s); !errors.Is(err, ErrNotAccepted) || w.pending || w.server != Old {
		t.Error(err, w)
	}
	w.fail = map[string]error{"drop": down}
	answers = []bool{false, true}
	if err := Run(t.Context(), s); !errors.Is(err, down) {
		t.Error(err)
	}
}

// TestResume: whatever was done before the end, the password that the server takes is the one that stays.
func TestResume(t *testing.T) {
	for _, server := range []PasswordChoice{Old, New} {
		w := &world{server: server, pending: true}
		which, err := Resume(t.Context(), w.do())
		if err != nil || which != server || w.source != server || w.pending {
			t.Errorf("%d: %d, %v, %+v", server, which, err, w)
		}
	}
	w := &world{neither: true, pending: true}
	if _, err := Resume(t.Context(), w.do()); !errors.Is(err, ErrNeither) || !w.pending {
		t.Errorf("%v, %+v", err, w)
	}
	down := errors.New("unreachable")
	for _, step := range []string{"accepts 1", "accepts 0"} {
		w := &world{pending: true, fail: map[string]error{step: down}}
		if _, err := Resume(t.Context(), w.do()); !errors.Is(err, down) || !w.pending {
			t.Errorf("%v, %+v", err, w)
		}
	}
}

func TestFolder(t *testing.T) {
	home := t.TempDir()
	f := FolderOf(home)
	if all, err := f.Profiles(); err != nil || all != nil || f.Has("sightings") {
		t.Error(all, err)
	}
	if p, err := f.Load("sightings"); p != nil || err != nil {
		t.Error(p, err)
	}
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	for _, p := range []Pending{
		{Profile: "sightings", Begun: at, Secret: secret.NewValue("made-up \"one\"\n")},
		{Profile: "project:sightings", Entry: "shared", Begun: at},
	} {
		if err := f.Save(p); err != nil {
			t.Fatal(err)
		}
		read, err := f.Load(p.Profile)
		if err != nil || read.Entry != p.Entry || !read.Secret.Same(p.Secret) || !read.Begun.Equal(at) || read.Secret.Present() != p.Secret.Present() {
			t.Errorf("%+v, %v", read, err)
		}
	}
	if all, _ := f.Profiles(); !slices.Equal(all, []string{"sightings", "project:sightings"}) {
		t.Errorf("%q", all)
	}
	for _, path := range []string{"rotate", "rotate/sightings.pending"} {
		if info, err := os.Stat(filepath.Join(home, path)); err != nil || info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s: %v %v", path, info, err)
		}
	}
	if moved, err := f.Move("sightings", "counts"); !moved || err != nil || f.Has("sightings") || !f.Has("counts") {
		t.Error(moved, err)
	}
	if moved, err := f.Move("sightings", "counts"); moved || err != nil {
		t.Error(moved, err)
	}
	os.Chmod(filepath.Join(home, "rotate", "counts.pending"), 0o644)
	var failure *secret.Failure
	if _, err := f.Load("counts"); !errors.As(err, &failure) {
		t.Errorf("a file that others can read was read: %v", err)
	}
	os.WriteFile(filepath.Join(home, "rotate", "odd.pending"), []byte(`{"format": 2}`), 0o600)
	if _, err := f.Load("odd"); err == nil {
		t.Error("a file of another format was read")
	}
	if err := errors.Join(f.Remove("odd"), f.Remove("odd")); err != nil {
		t.Error(err)
	}
	unlock, err := f.Lock(t.Context(), filepath.Join(home, "locks"), "counts")
	if err != nil {
		t.Fatal(err)
	}
	unlock()
}
