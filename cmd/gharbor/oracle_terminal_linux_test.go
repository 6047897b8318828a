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
	s := p.OnTerminal("test", "archive", "-override", "secret=ask", "-timeout", "2s").Expect("(not shown)")
	time.Sleep(2200 * time.Millisecond)
	text := s.Type("avocet\n").Ends(0)
	if strings.Contains(text, "avocet") || server.Logins() != 1 { // other tests' programs may look for servers at the port meanwhile
		t.Errorf("%d logins\n%s", server.Logins(), text)
	}
	s = p.OnTerminal("test", "archive", "-override", "secret=ask").Expect("(not shown)")
	s.Type("\x03").Ends(130)
	s = p.OnTerminal("add", "typed").Expect("the path of a socket").Type(fmt.Sprintf("127.0.0.1:%d\n", server.Port())).Expect("first letters").Type("ora\n")
	s.Expect("service, as the listener knows it").Type("SKEIN\n").Expect("user").Type("curator\n").Expect("4  none").Type("3\n").Expect("where: ").Type("env:AVOCET\n")
	s.Expect("test it now? [Y/n]: ").Type("\n").Expect("ready").Ends(0)
}
