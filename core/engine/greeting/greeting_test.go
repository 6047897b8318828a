package greeting

import (
	"context"
	"net"
	"strings"
	"testing"
)

// birds are two engines: the server of one waits for a word, that of the other is asked late.
var birds = Set{
	{
		Engine:   "tern",
		Protocol: "Tern's",
		Opening:  func() []byte { return []byte("CALL") },
		Recognise: func(p []byte) (Service, bool) {
			return Service{Engine: "tern", What: "a tern"}, string(p) == "KIRR"
		},
	},
	{Engine: "gull", Protocol: "Gull's", Opening: func() []byte { return []byte("MEW") }},
	{Engine: "owl", Protocol: "Owl's", Opening: func() []byte { return []byte("HOO") }, Unusual: true},
	{
		Engine:    "wren",
		Recognise: func(p []byte) (Service, bool) { return Service{Engine: "wren", What: "a wren"}, p[0] == 'K' },
		Weak:      true,
	},
}

// TestSet: what is no engine's comes first, then the engines', the ones that take few bytes last.
func TestSet(t *testing.T) {
	for bytes, want := range map[string]string{"SSH-2.0-x": "", "KIRR": "tern", "KNOT": "wren", "HTTP/1.1 200": "", "x": "-", "": "-"} {
		s, ok := birds.Recognise([]byte(bytes))
		if ok != (want != "-") || ok && s.Engine != want {
			t.Errorf("%q: %+v %v", bytes, s, ok)
		}
	}
	for _, c := range []struct {
		likely string
		all    bool
		want   int
	}{{"", false, 2}, {"", true, 3}, {"owl", false, 3}, {"wren", false, 2}} {
		if have := len(birds.Probes(c.likely, c.all)); have != c.want {
			t.Errorf("%+v: %d probes", c, have)
		}
	}
	if probes, names := birds.OtherProbes("tern"); len(probes) != 3 || strings.Join(names, " ") != "Gull's Owl's TLS's" {
		t.Errorf("%d probes, %q", len(probes), names)
	}
	if string(birds.Opening("gull")) != "MEW" || birds.Opening("wren") != nil || birds.Opening("x") != nil {
		t.Error("an opening is wrong")
	}
}

// TestIdentifyIsBounded: a server that never answers costs one connection a
// probe, and ends with its context.
func TestIdentifyIsBounded(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	go func() {
		for {
			if _, err := listener.Accept(); err != nil {
				return
			}
		}
	}()
	dial := func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", listener.Addr().String())
	}
	ctx, cancel := context.WithCancel(context.Background())
	if _, n, ok := birds.Identify(ctx, dial, birds.Probes("", false)...); ok || n != 2 {
		t.Errorf("%d connections, recognised %v", n, ok)
	}
	cancel()
	if _, n, ok := birds.Identify(ctx, dial, birds.Probes("owl", true)...); ok || n > 1 {
		t.Errorf("after the end: %d connections", n)
	}
}
