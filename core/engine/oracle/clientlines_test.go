package oracle

import (
	"testing"

	"gentleharbor/core/engine"
)

func TestClientLine(t *testing.T) {
	for line, want := range map[string]engine.ClientLine{
		"@part": {Do: engine.LineInclude, Text: "part.sql"}, "@@ a/b.sql;": {Do: engine.LineInclude, Text: "a/b.sql"}, "start x.sql": {Do: engine.LineInclude, Text: "x.sql"},
		"prompt it's on": {Do: engine.LineEcho, Text: "it's on"}, "set echo off": {Do: engine.LineIgnored}, "exit;": {Do: engine.LineEnd}, "rem x": {Do: engine.LineIgnored},
	} {
		if got := clientLine(line); got == nil || *got != want {
			t.Errorf("%s: %+v", line, got)
		}
	}
	for _, line := range []string{"host ls", "connect a/b", "spool x", "@", "@http://a/b", "execute x", "accept y"} {
		if got := clientLine(line); got == nil || got.Do != engine.LineRefused || got.Why == "" {
			t.Errorf("%s: %+v", line, got)
		}
	}
	for _, line := range []string{"set role none", "SET TRANSACTION READ ONLY", "start with x"} {
		if got := clientLine(line); got != nil {
			t.Errorf("%s is a statement: %+v", line, got)
		}
	}
}
