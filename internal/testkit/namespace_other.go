//go:build unix && !linux

package testkit

import (
	"errors"
	"testing"
)

// Namespace is a private network, which only Linux has.
type Namespace struct{ Address string }

// PrivateNetwork is only for Linux.
func PrivateNetwork(t testing.TB) *Namespace {
	t.Helper()
	return need(t, "private network",
		func() (*Namespace, error) { return nil, errors.New("only Linux has network namespaces") })
}

func (n *Namespace) do(f func() error) error { return f() }
