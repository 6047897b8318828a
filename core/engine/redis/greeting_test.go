package redis

import "testing"

func TestGreeting(t *testing.T) {
	for bytes, want := range map[string]bool{"+PONG\r\n": true, "-NOAUTH Authentication required.\r\n": true, "-LOADING x": true, "+OK": false, "HTTP/1.0 400": false, "": false} {
		if s, ok := recognise([]byte(bytes)); ok != want || ok && s.Engine != Word {
			t.Errorf("%q: %+v %v", bytes, s, ok)
		}
	}
	if string(opening()) != "PING\r\n\r\n" {
		t.Errorf("%q", opening())
	}
	said := []byte("redis-cli 7.2.4 (git:0)")
	if m := Spec.Client.Programs.Version().FindSubmatch(said); len(m) != 2 || string(m[1]) != "7" {
		t.Errorf("%q", m)
	}
}
