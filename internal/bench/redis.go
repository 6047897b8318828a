//go:build unix

package main

import (
	"fmt"
	"os/exec"

	"gentleharbor/internal/testkit"
)

// redis compares a whole test with the server's own client, which logs in and sends PING.
func (b *bench) redis() error {
	server, err := testkit.StartRedis(b.folder, "--requirepass", "knot", "--save", "")
	if err != nil {
		return err
	}
	defer server.Stop()
	client, err := exec.LookPath("redis-cli")
	if err != nil {
		return err
	}
	b.env = append(b.env, "KNOT=knot", "REDISCLI_AUTH=knot")
	if err := b.profiles(fmt.Sprintf("[profile.cache]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\n"+
		"secret = \"env:KNOT\"\ntls = \"off\"\n", server.Port)); err != nil {
		return err
	}
	return b.compare("test / client, Redis", 0.70, []string{"gharbor", "test", "cache"},
		[]string{client, "-p", fmt.Sprint(server.Port), "PING"})
}
