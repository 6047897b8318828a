package nearby

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestJustStarted(t *testing.T) {
	root := t.TempDir()
	write := func(name, text string) {
		path := filepath.Join(root, "proc", name)
		os.MkdirAll(filepath.Dir(path), 0o700)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	stat := func(pid int, name string, parent, started int) {
		write(fmt.Sprintf("%d/stat", pid), fmt.Sprintf("%d (%s) S %d 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 0 %d 0 0", pid, name, parent, started))
	}
	write("uptime", "1000.00 1900.00\n")
	stat(1, "init", 0, 1)
	stat(10, "postgres", 1, 99_700)  // 3 s ago
	stat(11, "postgres", 10, 99_800) // its worker
	stat(20, "postgres", 1, 10_000)  // long ago
	stat(30, "mariadbd", 1, 99_900)  // 1 s ago
	stat(40, "my) (sqld", 1, 99_900) // a name with signs
	write("50/stat", "50 (mysqld")   // broken off
	write("60/other", "mysqld")
	p := Places{Root: root, Engines: keys.Engines()}
	if got := p.JustStarted("postgresql"); len(got) != 1 || got[0] != (Process{"postgres", 10, 3 * time.Second}) {
		t.Errorf("%+v", got)
	}
	if got := p.JustStarted("mysql"); len(got) != 1 || got[0].PID != 30 || got[0].Age != time.Second {
		t.Errorf("%+v", got)
	}
	if got := (Places{Root: t.TempDir(), Engines: keys.Engines()}).JustStarted("mysql"); got != nil {
		t.Errorf("%+v", got)
	}
}
