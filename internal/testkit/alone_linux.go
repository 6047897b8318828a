package testkit

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
)

// aloneIn is set for a test's process in a network of its own: the path of the built program.
const aloneIn = "GHARBOR_TEST_ALONE"

// separate reports whether a process can have a network of its own here: it takes root's rights and Debian's iproute2.
var separate = sync.OnceValue(func() bool {
	cmd := exec.Command("ip", "link", "set", "lo", "up")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	return cmd.Run() == nil
})

// Alone is for a test that looks for servers, or listens at a usual port: other tests' servers are not to be found by
// it, nor its own by others. It runs the test in a process whose network holds nothing else, beside other tests, and
// reports how that ended: then done is true, and the test returns. In that process, and where no network can be made,
// done is false; the test goes on, and is not parallel.
func Alone(t *testing.T) (done bool) {
	t.Helper()
	if os.Getenv(aloneIn) != "" || !separate() {
		return false
	}
	path, err := build()
	if err != nil {
		t.Fatal(err)
	}
	t.Parallel()
	args := []string{"-test.run=^" + t.Name() + "$", "-test.v", "-test.parallel=6",
		"-test.timeout=" + flag.Lookup("test.timeout").Value.String()}
	for _, arg := range os.Args[1:] {
		if !strings.HasPrefix(arg, "-test.") {
			args = append(args, arg)
		}
	}
	cmd := exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), aloneIn+"="+path)
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	out, err := cmd.CombinedOutput()
	text := string(out)
	switch {
	case err != nil:
		t.Errorf("%v\n%s", err, text)
	case strings.Contains(text, "\n--- SKIP: "+t.Name()+" "):
		t.Skip(text)
	case !strings.Contains(text, "--- PASS: "+t.Name()+" "):
		t.Errorf("the test did not run:\n%s", text)
	default:
		t.Log(text)
	}
	return true
}

// settle makes this process ready, where Alone has started it: its network has loopback, another address of its own,
// and no way further.
func settle() {
	if os.Getenv(aloneIn) == "" {
		return
	}
	for _, words := range []string{
		"link set lo up", "link add eth0 type veth peer name eth1", "addr add 10.127.255.1/24 dev eth0",
		"link set eth1 up", "link set eth0 up",
	} {
		if out, err := exec.Command("ip", strings.Fields(words)...).CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "ip %s: %v: %s", words, err, out)
			os.Exit(1)
		}
	}
}
