//go:build !unix

package render

// aroundStops has nothing to do where the terminal stops no program.
func aroundStops(func(), func()) (done func()) { return func() {} }
