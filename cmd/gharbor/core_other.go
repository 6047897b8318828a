//go:build !linux && !darwin

package main

// noCoreDumps has nothing to do where the system writes none by itself.
func noCoreDumps() {}
