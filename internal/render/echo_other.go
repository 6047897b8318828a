//go:build !linux && !darwin

package render

// echoOff does nothing: the function that reads the password switches the echo off.
func echoOff(int) error { return nil }
