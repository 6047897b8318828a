package nearby

import (
	"bytes"
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Process is a server's process of this machine.
type Process struct {
	Name string
	PID  int
	Age  time.Duration
}

// JustStarted lists the engine's server processes that started within the last two minutes, and so may not listen
// yet. It reads proc(5); on other systems than Linux there are none.
func (p Places) JustStarted(word string) []Process {
	const recent, most = 2 * time.Minute, 3
	uptime := p.uptime()
	if uptime == 0 {
		return nil
	}
	var programs []string
	if spec := p.Engines.ByWord(word); spec != nil {
		programs = spec.Local.Programs
	}
	folders, _ := filepath.Glob(p.host().Path("/proc/[0-9]*"))
	var found []Process
	for _, folder := range folders {
		name, parent, started := p.stat(folder)
		age := uptime - started
		if !slices.Contains(programs, name) || age > recent || age < 0 {
			continue
		}
		if above, _, _ := p.stat(p.host().Path("/proc/" + strconv.Itoa(parent))); above == name {
			continue // one of its workers
		}
		pid, _ := strconv.Atoi(filepath.Base(folder))
		found = append(found, Process{Name: name, PID: pid, Age: age})
	}
	slices.SortFunc(found, func(a, b Process) int { return cmp.Compare(a.Age, b.Age) })
	found = found[:min(len(found), most)]
	for i := range found {
		found[i].Age = found[i].Age.Round(time.Second)
	}
	return found
}

// uptime is how long the machine is up, 0 where it is not known.
func (p Places) uptime() time.Duration {
	data, err := os.ReadFile(p.host().Path("/proc/uptime"))
	if err != nil {
		return 0
	}
	first, _, _ := strings.Cut(string(data), " ")
	seconds, _ := strconv.ParseFloat(first, 64)
	return time.Duration(seconds * float64(time.Second))
}

// stat reads a process's name, its parent, and its start since the machine's start: fields 2, 4 and 22, the last in
// ticks of 1/100 s.
func (p Places) stat(folder string) (name string, parent int, started time.Duration) {
	data, err := os.ReadFile(filepath.Join(folder, "stat"))
	if err != nil {
		return "", 0, 0
	}
	open, shut := bytes.IndexByte(data, '('), bytes.LastIndexByte(data, ')')
	if open < 0 || shut < open {
		return "", 0, 0
	}
	fields := strings.Fields(string(data[shut+1:]))
	if len(fields) < 20 {
		return "", 0, 0
	}
	parent, _ = strconv.Atoi(fields[1])
	ticks, _ := strconv.ParseInt(fields[19], 10, 64)
	return string(data[open+1 : shut]), parent, time.Duration(ticks) * 10 * time.Millisecond
}
