package redis

import (
	"bytes"

	"gentleharbor/core/engine/greeting"
)

// opening makes a Redis server answer PING, and an HTTP server complain.
func opening() []byte { return []byte("PING\r\n\r\n") }

// recognise names a server by its answer to PING.
func recognise(p []byte) (greeting.Service, bool) {
	return greeting.Service{Engine: Word, What: "a Redis server"}, isRedis(p)
}

// isRedis accepts the answers to PING (Redis documentation, "RESP protocol"):
// a status, an error, or the refusal of protected mode.
func isRedis(p []byte) bool {
	for _, word := range []string{"+PONG", "-NOAUTH", "-DENIED", "-ERR", "-LOADING", "-NOPERM", "-MISCONF",
		"-MASTERDOWN", "-BUSY", "-CLUSTERDOWN"} {
		if bytes.HasPrefix(p, []byte(word)) {
			return true
		}
	}
	return false
}
