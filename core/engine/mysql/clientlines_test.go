package mysql

import (
	"testing"

	"gentleharbor/core/engine"
)

func TestClientLine(t *testing.T) {
	for line, want := range map[string]engine.ClientAction{
		"source a b.sql;": engine.LineInclude, `\. a.sql`: engine.LineInclude, "SOURCE 'a.sql'": engine.LineInclude, "source": engine.LineRefused, `\.a.sql`: engine.LineInclude,
		"quit": engine.LineEnd, `\q`: engine.LineEnd, "warnings;": engine.LineIgnored, `\W`: engine.LineIgnored, "system ls": engine.LineRefused, `\! ls`: engine.LineRefused, "tee x": engine.LineRefused,
		`\T x`: engine.LineRefused, "connect a b": engine.LineRefused, `\u other`: engine.LineRefused, "charset utf8mb4": engine.LineIgnored, `\C latin1`: engine.LineRefused, `\x`: engine.LineRefused,
	} {
		got := clientLine(line)
		if got == nil || got.Do != want || want == engine.LineInclude && got.Text != "a.sql" && got.Text != "a b.sql" {
			t.Errorf("%s: %+v", line, got)
		}
	}
	if clientLine("print x") != nil {
		t.Error("a statement is taken for a line of the client")
	}
}
