package testkit

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/sys/unix"
)

// Namespace is a private network: a network namespace of its own, to which one
// cable leads. What listens on its loopback can't be reached from here.
type Namespace struct {
	Address string // its end of the cable
	name    string
}

// networks counts those made by this process, which has addresses for perProcess.
var networks atomic.Int32

const perProcess = 32

// PrivateNetwork makes a network namespace, which takes root and Debian's iproute2.
func PrivateNetwork(t testing.TB) *Namespace {
	t.Helper()
	return need(t, "private network (a network namespace)", func() (*Namespace, error) {
		if os.Getuid() != 0 {
			return nil, errors.New("it takes root")
		}
		n := int(networks.Add(1))
		if n > perProcess {
			return nil, fmt.Errorf("a process has addresses for %d", perProcess)
		}
		// A /30 in 10.128.0.0/9: a cable lives on for a while after its namespace, so none is used twice.
		first := (os.Getpid()%65_536*perProcess + n - 1) * 4
		a, b, c := 128+first>>16, first>>8&255, first&255
		ns := &Namespace{name: fmt.Sprintf("gharbor-%d-%d", os.Getpid(), n), Address: fmt.Sprintf("10.%d.%d.%d", a, b, c+2)}
		cable := fmt.Sprintf("gh%d-%d", os.Getpid()%100_000, n)
		for _, words := range []string{
			"netns add " + ns.name, "link add " + cable + " type veth peer name eth0 netns " + ns.name,
			fmt.Sprintf("addr add 10.%d.%d.%d/30 dev %s", a, b, c+1, cable), "link set " + cable + " up",
			fmt.Sprintf("-n %s addr add %s/30 dev eth0", ns.name, ns.Address), "-n " + ns.name + " link set eth0 up",
			"-n " + ns.name + " link set lo up",
		} {
			if out, err := exec.Command("ip", strings.Fields(words)...).CombinedOutput(); err != nil {
				return nil, fmt.Errorf("ip %s: %w: %s", words, err, out)
			}
			if strings.HasPrefix(words, "netns add") {
				t.Cleanup(func() { exec.Command("ip", "netns", "del", ns.name).Run() })
			}
		}
		return ns, nil
	})
}

// do does something inside: a process that it starts lives there.
func (n *Namespace) do(f func() error) error {
	if n == nil {
		return f()
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	here, err := os.Open("/proc/thread-self/ns/net")
	if err != nil {
		return err
	}
	defer here.Close()
	there, err := os.Open("/var/run/netns/" + n.name)
	if err != nil {
		return err
	}
	defer there.Close()
	if err := unix.Setns(int(there.Fd()), unix.CLONE_NEWNET); err != nil {
		return err
	}
	err = f()
	if back := unix.Setns(int(here.Fd()), unix.CLONE_NEWNET); back != nil {
		panic(back) // this thread can't be used for anything else
	}
	return err
}
