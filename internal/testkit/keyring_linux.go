package testkit

import (
	"bufio"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/godbus/dbus/v5"
)

// Keyring is a simulated secret service (freedesktop.org, "Secret Service API")
// on a message bus of its own: as much of it as a client without encryption and
// without prompts uses.
type Keyring struct {
	Address string // of the bus, for DBUS_SESSION_BUS_ADDRESS

	mu    sync.Mutex
	items map[dbus.ObjectPath]keyringItem
	conn  *dbus.Conn
}

type keyringItem struct {
	attributes map[string]string
	secret     keyringSecret
}

type keyringSecret struct {
	Session     dbus.ObjectPath
	Parameters  []byte
	Value       []byte
	ContentType string
}

const (
	keyringPath       = dbus.ObjectPath("/org/freedesktop/secrets")
	keyringCollection = dbus.ObjectPath("/org/freedesktop/secrets/aliases/default")
)

// Bus starts a message bus with nothing on it, and returns its address.
func Bus(t testing.TB) string {
	t.Helper()
	program, err := exec.LookPath("dbus-daemon")
	if err != nil {
		if os.Getenv("GHARBOR_REQUIRE_SERVERS") != "" {
			t.Fatal("a message bus is required (Debian: apt-get install dbus-daemon)")
		}
		t.Skip("no message bus here (Debian: apt-get install dbus-daemon)")
	}
	cmd := exec.Command(program, "--session", "--nofork", "--nopidfile", "--address=unix:tmpdir=/tmp", "--print-address=1")
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM) // so that it removes its socket
		cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(line)
}

// StartKeyring starts a bus with a simulated keyring on it.
func StartKeyring(t testing.TB) *Keyring {
	t.Helper()
	k := &Keyring{Address: Bus(t), items: make(map[dbus.ObjectPath]keyringItem)}
	conn, err := dbus.Connect(k.Address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	k.conn = conn
	for _, o := range []struct {
		methods map[string]any
		path    dbus.ObjectPath
		name    string
	}{
		{map[string]any{"OpenSession": k.openSession, "Unlock": k.unlock}, keyringPath, "org.freedesktop.Secret.Service"},
		{map[string]any{"Get": k.property}, keyringPath, "org.freedesktop.DBus.Properties"},
		{map[string]any{"SearchItems": k.search, "CreateItem": k.create}, keyringCollection,
			"org.freedesktop.Secret.Collection"},
		{map[string]any{"Close": func() *dbus.Error { return nil }}, keyringPath + "/session/1",
			"org.freedesktop.Secret.Session"},
	} {
		if err := conn.ExportMethodTable(o.methods, o.path, o.name); err != nil {
			t.Fatal(err)
		}
	}
	if reply, err := conn.RequestName("org.freedesktop.secrets", dbus.NameFlagDoNotQueue); err != nil ||
		reply != dbus.RequestNameReplyPrimaryOwner {
		t.Fatalf("%v %v", reply, err)
	}
	return k
}

// Secrets are the texts of all entries, by the name of the entry.
func (k *Keyring) Secrets() map[string]string {
	k.mu.Lock()
	defer k.mu.Unlock()
	all := make(map[string]string)
	for _, item := range k.items {
		all[item.attributes["username"]] = string(item.secret.Value)
	}
	return all
}

func (k *Keyring) openSession(algorithm string, _ dbus.Variant) (dbus.Variant, dbus.ObjectPath, *dbus.Error) {
	if algorithm != "plain" {
		return dbus.Variant{}, "/", dbus.NewError("org.freedesktop.DBus.Error.NotSupported", nil)
	}
	return dbus.MakeVariant(""), keyringPath + "/session/1", nil
}

func (k *Keyring) unlock(objects []dbus.ObjectPath) ([]dbus.ObjectPath, dbus.ObjectPath, *dbus.Error) {
	return objects, "/", nil
}

func (k *Keyring) property(_, _ string) (dbus.Variant, *dbus.Error) {
	return dbus.MakeVariant([]dbus.ObjectPath{keyringCollection}), nil
}

func (k *Keyring) search(attributes map[string]string) ([]dbus.ObjectPath, *dbus.Error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	found := []dbus.ObjectPath{}
	for path, item := range k.items {
		if maps.Equal(item.attributes, attributes) {
			found = append(found, path)
		}
	}
	slices.Sort(found)
	return found, nil
}

func (k *Keyring) create(properties map[string]dbus.Variant, secret keyringSecret,
	replace bool) (dbus.ObjectPath, dbus.ObjectPath, *dbus.Error) {
	attributes, _ := properties["org.freedesktop.Secret.Item.Attributes"].Value().(map[string]string)
	found, _ := k.search(attributes)
	k.mu.Lock()
	defer k.mu.Unlock()
	path := dbus.ObjectPath(fmt.Sprintf("%s/item/%d", keyringPath, len(k.items)+1))
	if len(found) > 0 && replace {
		path = found[0]
	}
	k.items[path] = keyringItem{attributes, secret}
	get := func(dbus.ObjectPath) (keyringSecret, *dbus.Error) {
		k.mu.Lock()
		defer k.mu.Unlock()
		return k.items[path].secret, nil
	}
	if err := k.conn.ExportMethodTable(map[string]any{"GetSecret": get}, path, "org.freedesktop.Secret.Item"); err != nil {
		return "/", "/", dbus.MakeFailedError(err)
	}
	return path, "/", nil
}
