package keyring

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	library "github.com/zalando/go-keyring"
)

// TestEntries: what is kept is found again; what is not there, and a system without a keyring, are told apart.
func TestEntries(t *testing.T) {
	library.MockInit()
	if _, err := Get(t.Context(), "counts"); !errors.Is(err, ErrNoEntry) {
		t.Errorf("%v", err)
	}
	for _, text := range []string{"knot", "dunlin"} {
		if err := Set(t.Context(), "counts", text); err != nil {
			t.Fatal(err)
		}
		if got, err := Get(t.Context(), "counts"); err != nil || got != text {
			t.Errorf("%q %v", got, err)
		}
	}
	library.MockInitWithError(errors.New("the bus\nis gone"))
	_, err := Get(t.Context(), "counts")
	if !errors.Is(err, ErrNone) || Reason(err) != "the bus; is gone" {
		t.Errorf("%v: %q", err, Reason(err))
	}
}

// TestEnded: a call that does not return is left behind when its context ends.
func TestEnded(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	hang := make(chan struct{})
	defer close(hang)
	if _, err := callWithTimeout(ctx, func() (string, error) { <-hang; return "", nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

func TestProblem(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("the system has a keyring always")
	}
	folder := t.TempDir()
	with := func(variables map[string]string) string {
		return Problem(func(name string) (string, bool) { value, ok := variables[name]; return value, ok })
	}
	if why := with(nil); !strings.Contains(why, "no session bus") {
		t.Error(why)
	}
	if with(map[string]string{"DBUS_SESSION_BUS_ADDRESS": "autolaunch:"}) == "" || with(map[string]string{"XDG_RUNTIME_DIR": folder}) == "" {
		t.Error("a bus that is not there is")
	}
	if why := with(map[string]string{"DBUS_SESSION_BUS_ADDRESS": "unix:path=/x"}); why != "" {
		t.Error(why)
	}
	os.WriteFile(filepath.Join(folder, "bus"), nil, 0o600)
	if why := with(map[string]string{"XDG_RUNTIME_DIR": folder}); why != "" {
		t.Error(why)
	}
}
