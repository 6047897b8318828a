//go:build unix

package testkit

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Event is one thing that one of PostgreSQL's own test scripts does; scripts/suites/Record.pm has the list.
type Event struct {
	What   string
	Fields []string
}

// Suite is one of PostgreSQL's own test scripts, run with a server that only notes. Script is its path in the
// source, such as "src/test/ssl/t/001_ssltests.pl". Where scripts/fetch-suites has not fetched it, the test is
// skipped, or fails where real servers are required.
func Suite(t testing.TB, script string) *Recording {
	t.Helper()
	return need(t, "source of PostgreSQL, as", func() (*Recording, error) {
		root, cache, err := suites()
		if err != nil {
			return nil, err
		}
		path := filepath.Join(cache, "postgresql", script)
		r := &Recording{Home: filepath.Dir(filepath.Dir(path)), Folder: t.TempDir()}
		cmd := exec.Command("perl", "-I", filepath.Join(root, "scripts", "suites"), "-MRecord="+r.Folder, path)
		cmd.Dir = r.Home
		out, err := cmd.Output()
		if err != nil {
			var failed *exec.ExitError
			if errors.As(err, &failed) {
				err = fmt.Errorf("%w: %s", err, failed.Stderr)
			}
			return nil, fmt.Errorf("it is not in the cache (scripts/fetch-suites): %w", err)
		}
		plain := strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n")
		for line := range strings.Lines(string(out)) {
			fields := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
			for i := range fields {
				fields[i] = plain.Replace(fields[i])
			}
			r.Events = append(r.Events, Event{fields[0], fields[1:]})
		}
		return r, nil
	})
}

// suites are the module's folder and that of the cached suites.
func suites() (root, cache string, err error) {
	root, err = moduleRoot()
	if cache = os.Getenv("GHARBOR_SUITES_CACHE"); cache == "" {
		cache = filepath.Join(root, ".cache", "suites")
	}
	return root, cache, err
}

// Source is a file or a folder of a source package in the cache of suites, such as "openssh/regress/cfginclude.sh".
// Where scripts/fetch-suites has not fetched it, the test is skipped, or fails where real servers are required.
func Source(t testing.TB, path string) string {
	t.Helper()
	return need(t, "source package of a", func() (string, error) {
		_, cache, err := suites()
		if err != nil {
			return "", err
		}
		path = filepath.Join(cache, path)
		if _, err := os.Stat(path); err != nil {
			return "", fmt.Errorf("it is not in the cache (scripts/fetch-suites): %w", err)
		}
		return path, nil
	})
}

// Recording is what a script does.
type Recording struct {
	Events []Event
	Home   string // the folder in which it runs; its relative paths are below
	Folder string // has data/, files of the server's, and keys/
}

// Install copies the script's files into a server's data folder. Lines are access rules that stand above its own.
func (r *Recording) Install(t testing.TB, p *PostgreSQL, lines string) {
	t.Helper()
	from := filepath.Join(r.Folder, "data")
	if err := filepath.WalkDir(from, func(path string, d os.DirEntry, err error) error {
		name, _ := filepath.Rel(from, path)
		switch {
		case err != nil || d.IsDir() || strings.HasSuffix(name, ".conf") && !strings.HasPrefix(name, "pg_"):
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if name == "pg_hba.conf" {
			data = append([]byte(lines), data...)
		}
		p.folder(filepath.Dir("data/" + name))
		return p.write("data/"+name, string(data))
	}); err != nil {
		t.Fatal(err)
	}
}

// folder makes a folder below the server's, owned by its account.
func (p *PostgreSQL) folder(name string) {
	path := filepath.Join(p.Folder, name)
	if os.Mkdir(path, 0o700) != nil {
		return
	}
	if cred, err := credential("postgres"); err == nil && cred != nil {
		os.Chown(path, int(cred.Uid), int(cred.Gid))
	}
}

// Configure puts settings in force, in place of those of the last call.
func (p *PostgreSQL) Configure(t testing.TB, settings string) {
	t.Helper()
	path := filepath.Join(p.Folder, "data", "postgresql.auto.conf")
	if p.settings == "" {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		p.settings = string(data)
	}
	before := p.loadTime(t)
	if err := p.write("data/postgresql.auto.conf", p.settings+"\n"+settings); err != nil {
		t.Fatal(err)
	}
	p.SQL(t, "postgres", "SELECT pg_reload_conf()")
	for range 200 {
		if p.loadTime(t) != before {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("the server does not load its settings")
}

// loadTime is when the server last loaded its settings.
func (p *PostgreSQL) loadTime(t testing.TB) string {
	t.Helper()
	conn, err := p.Connect("postgres")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	results, err := conn.Exec(t.Context(), "SELECT pg_conf_load_time()").ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return string(results[0].Rows[0][0])
}
