//go:build !linux && !darwin

package render

// echoOff leaves it to the reading of the password to switch the echo off.
func echoOff(int) error { return nil }
