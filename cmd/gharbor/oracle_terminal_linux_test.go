package main

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// TestOracleOnTerminal: a profile is made question by question, and the time that
// somebody takes to type a password does not count.
func TestOracleOnTerminal(t *testing.T) {
	t.Parallel()
	p, server := listening(t, archive())
	s := p.OnTerminal("test", "archive", "-override", "secret=ask", "-timeout", "700ms").Expect("(not shown)")
	time.Sleep(time.Second)
	text := s.Type("avocet\n").Ends(0)
	if strings.Contains(text, "avocet") || server.Connections() != 1 {
		t.Errorf("%d connections\n%s", server.Connections(), text)
	}
	s = p.OnTerminal("test", "archive", "-override", "secret=ask").Expect("(not shown)")
	s.Type("\x03").Ends(130)
	s = p.OnTerminal("add", "typed").Expect("engine [postgresql]: ").Type("oracle\n").Expect("host").Type("\n")
	s.Expect("port [1521]: ").Type(fmt.Sprintf("%d\n", server.Port())).Expect("user").Type("curator\n")
	s.Expect("service, as the listener knows it").Type("SKEIN\n").Expect("where the password is").Type("env:AVOCET\n").Expect("[offered]: ").Type("\n")
	s.Expect("test it now? [Y/n]: ").Type("\n").Expect("ready").Ends(0)
}
