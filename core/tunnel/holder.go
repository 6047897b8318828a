package tunnel

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Holder is the process that listens on a port.
type Holder struct {
	PID  int
	Name string
	// where it leads, where it is a forward of the system's SSH client or of the container engine; "" otherwise
	Leads string
}

// HolderOf finds the process that listens on a TCP port of this machine. It reads proc(5), which shows other users'
// processes only to root; ok is false on other systems than Linux.
func HolderOf(port int) (h Holder, ok bool) {
	inodes := make(map[string]bool)
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		for _, inode := range listeners(table, port) {
			inodes["socket:["+inode+"]"] = true
		}
	}
	if len(inodes) == 0 {
		return Holder{}, false
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, link := range links {
		target, err := os.Readlink(link)
		if err != nil || !inodes[target] {
			continue
		}
		folder := filepath.Dir(filepath.Dir(link))
		h.PID, _ = strconv.Atoi(filepath.Base(folder))
		name, _ := os.ReadFile(filepath.Join(folder, "comm"))
		h.Name = strings.TrimSpace(string(name))
		if line, err := os.ReadFile(filepath.Join(folder, "cmdline")); err == nil {
			h.Leads = leads(strings.Split(strings.Trim(string(line), "\x00"), "\x00"), port)
		}
		return h, true
	}
	return Holder{}, false
}

// listeners are the inodes of the sockets that listen on a port, from a table of the kernel: the local address is
// column 1, the state column 3 (0A listens), the inode column 9.
func listeners(table string, port int) []string {
	data, err := os.ReadFile(table)
	if err != nil {
		return nil
	}
	want := fmt.Sprintf(":%04X", port)
	var inodes []string
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) > 9 && strings.HasSuffix(words[1], want) && words[3] == "0A" {
			inodes = append(inodes, words[9])
		}
	}
	return inodes
}

// leads reads a command line: ssh(1) with -L, or the container engine's proxy of a published port.
func leads(words []string, port int) string {
	text := strconv.Itoa(port)
	switch filepath.Base(words[0]) {
	case "ssh":
		for i, word := range words {
			_, spec, ok := strings.Cut(word, "L")
			if !strings.HasPrefix(word, "-") || strings.HasPrefix(word, "--") || !ok {
				continue
			}
			if spec == "" && i+1 < len(words) {
				spec = words[i+1]
			}
			parts := strings.Split(spec, ":")
			if n := len(parts); n >= 3 && parts[n-3] == text {
				return fmt.Sprintf("%s:%s through %s", parts[n-2], parts[n-1], destination(words))
			}
		}
	case "docker-proxy":
		values := make(map[string]string)
		for i := 0; i+1 < len(words); i++ {
			values[words[i]] = words[i+1]
		}
		if values["-host-port"] == text {
			return "a container at " + values["-container-ip"] + ":" + values["-container-port"]
		}
	}
	return ""
}

// withValue are the options of ssh(1) that take a value.
const withValue = "BbcDEeFIiJLlmOopQRSWw"

// destination is the host that an ssh(1) command line names.
func destination(words []string) string {
	for i := 1; i < len(words); i++ {
		word := words[i]
		if !strings.HasPrefix(word, "-") {
			return word
		}
		if last := word[len(word)-1]; strings.IndexByte(withValue, last) >= 0 && len(word) == 2 ||
			strings.IndexByte(withValue, last) >= 0 && !strings.ContainsAny(word[1:len(word)-1], withValue) {
			i++
		}
	}
	return "a host that it does not name"
}
