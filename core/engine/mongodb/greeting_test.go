package mongodb

import "testing"

func TestGreeting(t *testing.T) {
	p := opening()
	if int(p[0]) != len(p) {
		t.Errorf("the opening says that it has %d bytes, and has %d", p[0], len(p))
	}
	reply := append([]byte{}, p...)
	copy(reply[8:], []byte{0x68, 0x67, 0, 0})
	if s, ok := recognise(reply); !ok || s.Engine != Word {
		t.Errorf("a reply to the opening is %+v, %v", s, ok)
	}
	if _, ok := recognise(p); ok {
		t.Error("a request is taken for a reply")
	}
}
