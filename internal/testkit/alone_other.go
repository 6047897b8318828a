//go:build !linux

package testkit

import "testing"

// aloneIn is set for a test's process in a network of its own: on Linux.
const aloneIn = "GHARBOR_TEST_ALONE"

// Alone runs a test in a network of its own, on Linux. Elsewhere the test goes on, and is not parallel.
func Alone(*testing.T) (done bool) { return false }

func settle() {}
