package profile

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// TestMain lets this test program be a writer that is killed in the middle.
func TestMain(m *testing.M) {
	if dir := os.Getenv("GHARBOR_TEST_WRITER"); dir != "" {
		for i := 0; ; i++ {
			err := Home{Dir: dir, Schema: keys}.Update(context.Background(), func(f *File) (*Edit, error) {
				return f.Set("a", []schema.Override{{Field: keys.Field(key.Note), Value: schema.TextValue(strings.Repeat("tide ", 200) + fmt.Sprint(i))}})
			})
			if err != nil {
				fmt.Println(err)
				os.Exit(1)
			}
		}
	}
	os.Exit(m.Run())
}

func home(t *testing.T) Home {
	t.Helper()
	return Home{Dir: filepath.Join(t.TempDir(), "home"), Schema: keys}
}

func add(name string) func(*File) (*Edit, error) {
	return func(f *File) (*Edit, error) {
		return f.Add(name, []schema.Override{{Field: keys.Field(key.Host), Value: schema.TextValue("h.example")}})
	}
}

func TestFiftyWriters(t *testing.T) {
	h := home(t)
	var group sync.WaitGroup
	for i := range 50 {
		group.Go(func() {
			if err := h.Update(context.Background(), add(fmt.Sprintf("station-%d", i))); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	f, err := h.Load()
	if err != nil || len(f.Profiles) != 50 {
		t.Fatalf("%d of 50 profiles, %v", len(f.Profiles), err)
	}
}

// TestKilledWriter kills a writer again and again: the file is always an old
// or a new one, and the next writer is not held up.
func TestKilledWriter(t *testing.T) {
	h := home(t)
	if err := h.Update(context.Background(), add("a")); err != nil {
		t.Fatal(err)
	}
	for i := range 25 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "GHARBOR_TEST_WRITER="+h.Dir)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(10+i) * time.Millisecond)
		cmd.Process.Kill()
		cmd.Wait()
		f, err := h.Load()
		if err != nil || f.Lookup("a") == nil || f.Lookup("a").Text(key.Host) != "h.example" {
			t.Fatalf("after kill %d: %v", i, err)
		}
	}
	if err := h.Update(context.Background(), add("b")); err != nil {
		t.Fatal(err)
	}
}

func TestPermissions(t *testing.T) {
	h := home(t)
	var notices []string
	h.Notice = func(s string) { notices = append(notices, s) }
	if err := h.Update(context.Background(), add("a")); err != nil {
		t.Fatal(err)
	}
	mode := func(path string) os.FileMode {
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode().Perm()
	}
	if mode(h.Dir) != 0o700 || mode(h.ProfilesPath()) != 0o600 || mode(h.ProfilesPath()+".lock") != 0o600 {
		t.Errorf("%o %o", mode(h.Dir), mode(h.ProfilesPath()))
	}
	os.Chmod(h.Dir, 0o755)
	os.Chmod(h.ProfilesPath(), 0o644)
	if _, err := h.Load(); err != nil {
		t.Fatal(err)
	}
	if mode(h.Dir) != 0o700 || mode(h.ProfilesPath()) != 0o600 || len(notices) != 2 || !strings.Contains(notices[1], "0644") {
		t.Errorf("%o %o %q", mode(h.Dir), mode(h.ProfilesPath()), notices)
	}
}

// TestSharedFolder: a folder that is not the tool's own keeps its permissions.
func TestSharedFolder(t *testing.T) {
	var notices []string
	h := Home{Dir: t.TempDir(), Schema: keys, Notice: func(s string) { notices = append(notices, s) }}
	os.WriteFile(h.ProfilesPath(), []byte("[profile.a]\n"), 0o600)
	if err := os.Chmod(h.Dir, 0o777|os.ModeSticky); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Load(); err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(h.Dir); info.Mode().Perm() != 0o777 || len(notices) != 1 || !strings.Contains(notices[0], "for everybody") {
		t.Errorf("%o %q", info.Mode(), notices)
	}
	notices = nil
	os.Chmod(h.Dir, 0o755)
	t.Setenv("HOME", h.Dir)
	h.Load()
	if info, _ := os.Stat(h.Dir); info.Mode().Perm() != 0o755 || len(notices) != 1 {
		t.Errorf("%o %q", info.Mode(), notices)
	}
}

// TestSymbolicLinks: people keep such files in a dotfiles repository.
func TestSymbolicLinks(t *testing.T) {
	h := home(t)
	dotfiles := t.TempDir()
	os.MkdirAll(h.Dir, 0o700)
	target := filepath.Join(dotfiles, "databases.toml")
	if err := os.Symlink(target, h.ProfilesPath()); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a", "b"} { // the first makes the target
		if err := h.Update(context.Background(), add(name)); err != nil {
			t.Fatal(err)
		}
	}
	if info, err := os.Lstat(h.ProfilesPath()); err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Error("the link was replaced")
	}
	if f, err := h.Load(); err != nil || len(f.Profiles) != 2 {
		t.Errorf("%v", err)
	}
	linked := Home{Dir: filepath.Join(t.TempDir(), "link"), Schema: keys}
	os.Symlink(h.Dir, linked.Dir)
	if err := linked.Update(context.Background(), add("c")); err != nil {
		t.Error(err)
	}
	circle := home(t)
	os.MkdirAll(circle.Dir, 0o700)
	os.Symlink(circle.ProfilesPath(), circle.ProfilesPath())
	if err := circle.Update(context.Background(), add("a")); err == nil {
		t.Error("a link to itself was written to")
	}
}

func TestNothingHalfWritten(t *testing.T) {
	h := home(t)
	if err := h.Update(context.Background(), add("a")); err != nil {
		t.Fatal(err)
	}
	before, _ := os.ReadFile(h.ProfilesPath())
	boom := errors.New("no")
	if err := h.Update(context.Background(), func(*File) (*Edit, error) { return nil, boom }); !errors.Is(err, boom) {
		t.Error(err)
	}
	h.Update(context.Background(), add("a"))
	after, _ := os.ReadFile(h.ProfilesPath())
	if string(before) != string(after) {
		t.Error("a failed edit changed the file")
	}
	entries, _ := os.ReadDir(h.Dir)
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".tmp") {
			t.Errorf("left behind: %s", e.Name())
		}
	}
	os.WriteFile(h.ProfilesPath(), []byte("[profile.a]\nnonsense = 1\n"), 0o600)
	var mistake *FileError
	if err := h.Update(context.Background(), add("b")); !errors.As(err, &mistake) || mistake.Line != 2 {
		t.Errorf("a wrong file was edited: %v", err)
	}
}
