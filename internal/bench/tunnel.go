//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"gentleharbor/internal/testkit"
)

// tunnels compares a tunnel with the system's SSH client forwarding through the same
// server to the same place: bulk, short connections, and the time to a first byte.
func (b *bench) tunnels() error {
	gate, err := b.gate()
	if err != nil {
		return err
	}
	w := &hopWorld{bench: b, gate: gate, bulk: freePort(), greet: freePort()}
	for what, port := range map[string]string{"bulk": w.bulk, "greet": w.greet} {
		server := exec.Command(filepath.Join(b.folder, "traffic"), what, "127.0.0.1:"+port)
		if err := server.Start(); err != nil {
			return err
		}
		defer server.Process.Kill()
	}
	text := "[profile.bulk]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = " + w.bulk + "\nuser = \"x\"\n" +
		gate.Hop("bulk", fmt.Sprintf("key = %q", gate.Key)) +
		"\n[profile.greet]\nlike = \"bulk\"\nport = " + w.greet + "\n"
	if err := b.profiles(text); err != nil {
		return err
	}
	for _, part := range []func() error{w.throughput, w.short, w.first} {
		if err := part(); err != nil {
			return err
		}
	}
	return nil
}

// gate starts a jump host, which the user knows.
func (b *bench) gate() (*testkit.SSHD, error) {
	gate, err := testkit.StartSSHServer()
	if err != nil {
		return nil, err
	}
	known, err := gate.ReadKnownLine()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(b.folder, ".ssh"), 0o700); err != nil {
		return nil, err
	}
	return gate, os.WriteFile(filepath.Join(b.folder, ".ssh", "known_hosts"), []byte(known+"\n"), 0o600)
}

// hopWorld is a jump host with two servers behind it.
type hopWorld struct {
	*bench
	gate        *testkit.SSHD
	bulk, greet string // ports
}

// freePort is a port that nothing listens on, below those that systems give to whoever
// dials: a client that tries again and again would at last meet itself there.
func freePort() string {
	port, err := testkit.UnusedPort()
	if err != nil {
		return "0" // and whoever is to listen there says so
	}
	return strconv.Itoa(port)
}

// ssh starts the system's client forwarding a port.
func (w *hopWorld) ssh(local, remote string, more ...string) *exec.Cmd {
	args := append(more, "-F", "none", "-N", "-o", "UserKnownHostsFile="+filepath.Join(w.folder, ".ssh", "known_hosts"),
		"-i", w.gate.Key, "-p", strconv.Itoa(w.gate.Port),
		"-L", "127.0.0.1:"+local+":127.0.0.1:"+remote, w.gate.User+"@127.0.0.1")
	return exec.Command("ssh", args...)
}

// tunnel starts ours in the foreground, but for the memory's sake as the background
// one runs.
func (w *hopWorld) tunnel(profile, local string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(w.folder, "gharbor"), "tunnel", "open", profile, "-local", local)
	cmd.Env = append(slices.Clone(w.env), "GODEBUG=madvdontneed=0", "XDG_RUNTIME_DIR="+w.folder)
	return cmd
}

// reading runs a client and returns the number that it prints.
func (w *hopWorld) reading(what, port string) (float64, error) {
	out, err := exec.Command(filepath.Join(w.folder, "traffic"), what, "127.0.0.1:"+port).Output()
	if err != nil {
		return 0, fmt.Errorf("traffic %s %s: %w", what, port, err)
	}
	return strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
}

// up waits until a forward serves.
func (w *hopWorld) up(port string) error {
	_, err := w.time("traffic", "first", "127.0.0.1:"+port)
	return err
}

// throughput reads a gibibyte through each, in turn.
func (w *hopWorld) throughput() error {
	const rounds = 7
	names := []string{"gharbor", "ssh", "ssh, AES-GCM"}
	ports := []string{freePort(), freePort(), freePort()}
	commands := []*exec.Cmd{w.tunnel("bulk", ports[0]), w.ssh(ports[1], w.bulk),
		w.ssh(ports[2], w.bulk, "-c", "aes128-gcm@openssh.com")}
	seconds := make([][]float64, len(names))
	for i, cmd := range commands {
		if err := cmd.Start(); err != nil {
			return err
		}
		defer cmd.Process.Kill()
		if err := w.up(ports[i]); err != nil {
			return fmt.Errorf("%s: %w", names[i], err)
		}
	}
	for range rounds {
		for i := range names {
			took, err := w.reading("read", ports[i])
			if err != nil {
				return err
			}
			seconds[i] = append(seconds[i], took)
		}
	}
	rate := func(i int) float64 { slices.Sort(seconds[i]); return 1.073741824 / seconds[i][rounds/2] }
	fmt.Printf("%-34s %8.2f GB/s  peer %6.2f GB/s  ratio %.2f (aim at least 1.2)\n", "tunnel, 1 GiB (ssh, its default)",
		rate(0), rate(1), rate(0)/rate(1))
	fmt.Printf("%-34s %8.2f GB/s  peer %6.2f GB/s  ratio %.2f (aim at least 0.8)\n", "tunnel, 1 GiB (ssh with AES-GCM)",
		rate(0), rate(2), rate(0)/rate(2))
	memory := peakMemory(commands[0].Process.Pid)
	var spent [2]float64
	for i, cmd := range commands[:2] {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		spent[i] = (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds() / rounds
	}
	fmt.Printf("%-34s %8.2f s     peer %6.2f s     ratio %.2f\n", "tunnel, CPU for 1 GiB", spent[0], spent[1],
		spent[0]/spent[1])
	fmt.Printf("%-34s %8.1f MB    (aim under 30 MB)\n", "tunnel, memory for one stream", memory)
	return nil
}

// peakMemory is the most memory that a process has had, and resident what it has, in megabytes.
func peakMemory(pid int) float64 { return memoryOf(pid, "VmHWM:") }
func resident(pid int) float64   { return memoryOf(pid, "VmRSS:") }

func memoryOf(pid int, field string) float64 {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	_, rest, _ := strings.Cut(string(data), field)
	words := strings.Fields(rest)
	if len(words) == 0 {
		return 0
	}
	kib, _ := strconv.ParseFloat(words[0], 64)
	return kib * 1024 / 1e6
}

// short makes many short connections one after the other.
func (w *hopWorld) short() error {
	ours, peer := freePort(), freePort()
	for port, cmd := range map[string]*exec.Cmd{ours: w.tunnel("greet", ours), peer: w.ssh(peer, w.greet)} {
		if err := cmd.Start(); err != nil {
			return err
		}
		defer cmd.Process.Kill()
		if err := w.up(port); err != nil {
			return err
		}
	}
	a, err := w.reading("many", ours)
	if err != nil {
		return err
	}
	p, err := w.reading("many", peer)
	if err != nil {
		return err
	}
	fmt.Printf("%-34s %8.0f /s    peer %6.0f /s    ratio %.1f (aim at least 20)\n", "tunnel, short connections", a, p, a/p)
	return nil
}

// first is the time from the start of a process to the first byte of the server.
func (w *hopWorld) first() error {
	const rounds = 15
	var ours, peer []time.Duration
	for range rounds {
		for i, port := range []string{freePort(), freePort()} {
			cmd, times := w.tunnel("greet", port), &ours
			if i == 1 {
				cmd, times = w.ssh(port, w.greet), &peer
			}
			start := time.Now()
			if err := cmd.Start(); err != nil {
				return err
			}
			err := w.up(port)
			*times = append(*times, time.Since(start))
			cmd.Process.Signal(syscall.SIGTERM)
			cmd.Wait()
			if err != nil {
				return err
			}
		}
	}
	a, p := median(ours), median(peer)
	fmt.Printf("%-34s %8.2f ms  peer %8.2f ms  ratio %.2f (aim at most 0.5)\n", "tunnel, start to first byte", ms(a),
		ms(p), float64(a)/float64(p))
	return nil
}
