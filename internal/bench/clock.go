//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// clock is the wall clock of a program built by buildWithClock. The machine's own clock is not touched.
type clock struct {
	file  string // holds by how many seconds the program's clock is wrong
	jumps int
}

// environment is the variable that a program with this clock needs.
func (c *clock) environment() string { return "CLOCK_FILE=" + c.file }

// jump sets the clock forward or back, by up to 50 minutes from the true time: the certificates of the tests stay
// valid.
func (c *clock) jump() error {
	c.jumps++
	return c.set(time.Duration(rand.IntN(6000)-3000) * time.Second)
}

func (c *clock) set(wrong time.Duration) error {
	return os.WriteFile(c.file, []byte(strconv.Itoa(int(wrong.Seconds()))), 0o600)
}

// The two files that buildWithClock adds: time.Jump, and what follows the file.
const (
	clockOfTime = `package time

import "sync/atomic"

var jumped atomic.Int64

// Jump makes the wall clock wrong by some seconds. The monotonic clock stays.
func Jump(seconds int64) { jumped.Store(seconds) }
`
	clockOfMain = `package main

import (
	"os"
	"strconv"
	"time"
)

func init() {
	go func() {
		for {
			text, _ := os.ReadFile(os.Getenv("CLOCK_FILE"))
			if wrong, err := strconv.ParseInt(string(text), 10, 64); err == nil {
				time.Jump(wrong)
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
}
`
)

// buildWithClock builds the program with another time.Now in the standard library, which adds what the clock's file
// says: only so the wall clock of one process can jump.
func (b *bench) buildWithClock() (*clock, error) {
	folder := filepath.Join(b.folder, "clock")
	if err := os.Mkdir(folder, 0o700); err != nil {
		return nil, err
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	original := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	source, err := os.ReadFile(original)
	if err != nil {
		return nil, err
	}
	const place = "\tmono -= startNano\n"
	text := strings.Replace(string(source), place, place+"\tsec += jumped.Load()\n", 1)
	if text == string(source) {
		return nil, fmt.Errorf("%s has no line %q: this Go's time.Now is another", original, place)
	}
	main, err := filepath.Abs("cmd/gharbor/clock.go")
	if err != nil {
		return nil, err
	}
	replace := make(map[string]string)
	for path, text := range map[string]string{
		original: text,
		filepath.Join(filepath.Dir(original), "jump.go"): clockOfTime,
		main: clockOfMain,
	} {
		replace[path] = filepath.Join(folder, strconv.Itoa(len(replace))+".go")
		if err := os.WriteFile(replace[path], []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	overlay, err := json.Marshal(map[string]any{"Replace": replace})
	if err != nil {
		return nil, err
	}
	list := filepath.Join(folder, "overlay.json")
	if err := os.WriteFile(list, overlay, 0o600); err != nil {
		return nil, err
	}
	program := filepath.Join(b.folder, "gharbor")
	cmd := exec.Command("go", "build", "-overlay", list, "-o", program, "gentleharbor/cmd/gharbor")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return nil, err
	}
	c := &clock{file: filepath.Join(folder, "seconds")}
	return c, c.set(0)
}
