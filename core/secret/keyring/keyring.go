// Package keyring keeps secrets in the system's keyring: on Linux the desktop's secret service on the session bus
// (freedesktop.org, "Secret Service API"), on macOS and Windows the system's own. It is one of core/secret's sources.
package keyring

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	library "github.com/zalando/go-keyring"

	"gentleharbor/core/defect"
)

// Service is the name under which all our entries are kept.
const Service = "gentle-harbor"

// Limit bounds a call. It leaves the user time to type a password, which a locked keyring asks for.
const Limit = 60 * time.Second

var (
	// ErrNone says that the system has no keyring, or none that can be reached.
	ErrNone = errors.New("no keyring can be reached")
	// ErrNoEntry says that the keyring has no entry of that name.
	ErrNoEntry = errors.New("the keyring has no such entry")
)

// Problem says why no keyring can be reached, without connecting to it; "" where there may be one. lookup reads
// environment variables.
func Problem(lookup func(string) (string, bool)) string {
	if runtime.GOOS == "darwin" || runtime.GOOS == "windows" {
		return ""
	}
	// Without this the library would start a new bus, on which no keyring listens.
	if address, ok := lookup("DBUS_SESSION_BUS_ADDRESS"); ok && address != "" && address != "autolaunch:" {
		return ""
	}
	if folder, ok := lookup("XDG_RUNTIME_DIR"); ok {
		if _, err := os.Stat(filepath.Join(folder, "bus")); err == nil {
			return ""
		}
	}
	return "there is no session bus here (DBUS_SESSION_BUS_ADDRESS is not set), as in a job, a container or a remote login"
}

// Get reads an entry. Errors are ErrNoEntry, or wrap ErrNone.
func Get(ctx context.Context, entry string) (string, error) {
	return callWithTimeout(ctx, func() (string, error) { return library.Get(Service, entry) })
}

// Set writes an entry, in place of one of its name.
func Set(ctx context.Context, entry, text string) error {
	_, err := callWithTimeout(ctx, func() (string, error) { return "", library.Set(Service, entry, text) })
	return err
}

// callWithTimeout abandons the goroutine if the call does not return.
func callWithTimeout(ctx context.Context, call func() (string, error)) (string, error) {
	type answer struct {
		text string
		err  error
	}
	done := make(chan answer, 1)
	defect.Go(func() {
		text, err := call()
		done <- answer{text, err}
	})
	timer := time.NewTimer(Limit)
	defer timer.Stop()
	select {
	case a := <-done:
		return a.text, explain(a.err)
	case <-timer.C:
		return "", errors.Join(ErrNone, errors.New("it did not answer within "+Limit.String()))
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
}

func explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, library.ErrNotFound):
		return ErrNoEntry
	}
	return errors.Join(ErrNone, err)
}

// Reason is what the system said, in one line.
func Reason(err error) string {
	text := strings.TrimPrefix(err.Error(), ErrNone.Error()+"\n")
	return strings.ReplaceAll(text, "\n", "; ")
}
