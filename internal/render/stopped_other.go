//go:build !unix

package render

// aroundStops does nothing: on these systems a terminal can't stop a program.
func aroundStops(func(), func()) (done func()) { return func() {} }
