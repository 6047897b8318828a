package main

import (
	"net"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// leaveSocket makes a socket file that nobody listens on.
func leaveSocket(t *testing.T, path string) {
	t.Helper()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		t.Fatal(err)
	}
	listener.SetUnlinkOnClose(false)
	listener.Close()
}

// override makes -override flags.
func override(pairs ...string) []string {
	var flags []string
	for _, pair := range pairs {
		flags = append(flags, "-override", pair)
	}
	return flags
}

// realCase is a test of a real server: its flags, the stage that it is about
// and how that ends, a part of what is seen, or of the cause, and of what is
// to be tried.
type realCase struct {
	name  string
	flags []string
	stage string
	ends  string
	code  string
	seen  string
	try   string
}

// unquoted takes the shell's quotes within quotes out of a text.
func unquoted(text string) string { return strings.ReplaceAll(text, `'\''`, "'") }

// joined is a text without the line ends that a terminal made.
func joined(text string) string { return strings.Join(strings.Fields(text), " ") }

// runReal tests a profile once for each case.
func runReal(t *testing.T, p *testkit.Program, profile string, cases []realCase) {
	t.Helper()
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := p.Test(profile, c.flags...).Ends(t, c.stage, c.ends, c.code)
			if !strings.Contains(s.SeenText(), c.seen) && (s.Finding == nil || !strings.Contains(s.Finding.Cause, c.seen)) {
				t.Errorf("no %q in seen:\n%s", c.seen, s.SeenText())
			}
			if !strings.Contains(unquoted(s.Try()), c.try) {
				t.Errorf("no %q in try:\n%s", c.try, s.Try())
			}
			if c.code != "" {
				p.OK("explain", c.code)
			}
		})
	}
}
