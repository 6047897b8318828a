package postgresql

import (
	"strings"
	"testing"

	"gentleharbor/core/engine"
)

func TestClientLine(t *testing.T) {
	for line, want := range map[string]engine.ClientLine{
		`\i a.sql`:                             {Do: engine.LineInclude, Text: "a.sql"},
		`\ir 'a b''c.sql'`:                     {Do: engine.LineInclude, Text: "a b'c.sql"},
		`\include a b.sql`:                     {Do: engine.LineInclude, Text: "a b.sql"},
		`\set x 'a\nb' "c d" e`:                {Do: engine.LineSet, Name: "x", Text: "a\nbc de"},
		`\set`:                                 {Do: engine.LineIgnored},
		"\\set\tx\ty":                          {Do: engine.LineSet, Name: "x", Text: "y"},
		`\unset x`:                             {Do: engine.LineSet, Name: "x"},
		`\echo 'it''s' 5  o`:                   {Do: engine.LineEcho, Text: "it's 5 o"},
		`\connect other`:                       {Do: engine.LineDatabase, Text: "other"},
		`\c - - - -`:                           {Do: engine.LineIgnored},
		`\c`:                                   {Do: engine.LineIgnored},
		`\c -reuse-previous=on "dbname='a b'"`: {Do: engine.LineRefused, Why: onlyDatabase},
		`\c -reuse-previous=on "dbname='a'"`:   {Do: engine.LineDatabase, Text: "a"},
		`\c -reuse-previous=on`:                {Do: engine.LineRefused, Why: "it is not understood"},
		`\c other - gull.example`:              {Do: engine.LineRefused, Why: onlyDatabase},
		`\c 'host=a'`:                          {Do: engine.LineRefused, Why: onlyDatabase},
		`\restrict abc`:                        {Do: engine.LineRestrict, Text: "abc"},
		`\q`:                                   {Do: engine.LineEnd},
		`\pset format csv`:                     {Do: engine.LineIgnored},
		`\encoding UTF8`:                       {Do: engine.LineIgnored},
		`\encoding LATIN1`:                     {Do: engine.LineRefused, Why: "only UTF8 is read; SET client_encoding in the script says another one to the server"},
		`\! ls`:                                {Do: engine.LineRefused, Why: runsProgram},
		"\\set a `ls`":                         {Do: engine.LineRefused, Why: runsProgram},
		`\copy a from 'b'`:                     {Do: engine.LineRefused, Why: touchesFile},
		`\password`:                            {Do: engine.LineRefused, Why: "it changes a password"},
		`\i`:                                   {Do: engine.LineRefused, Why: "it names no file"},
		`\if true`:                             {Do: engine.LineRefused, Why: "it is not understood"},
	} {
		got := *clientLine(line)
		if strings.HasPrefix(got.Why, want.Why) && want.Why != "" {
			got.Why = want.Why
		}
		if got != want {
			t.Errorf("%s: %+v, not %+v", line, got, want)
		}
	}
}

func TestDataPlace(t *testing.T) {
	for where, want := range map[string]struct {
		line   int
		column string
	}{
		`COPY hide, line 12, column id: "x"`: {12, "id"}, "COPY hide, line 3": {3, ""}, "COPY a, Zeile 7, Spalte n: «x»": {7, "n"}, "PL/pgSQL function f() line 3 at RAISE": {}, "": {},
	} {
		if line, column := dataPlace(where); line != want.line || column != want.column {
			t.Errorf("%q: %d %q", where, line, column)
		}
	}
}

// TestCatalogue: each statement stands for itself, and what is asked of one table narrows it.
func TestCatalogue(t *testing.T) {
	for _, kind := range []engine.Kind{engine.KindTables, engine.KindColumns, engine.KindIndexes, engine.KindDatabases, engine.KindOthers} {
		all, one := catalogue.Statement(kind, nil, false)[0], catalogue.Statement(kind, nil, true)[0]
		if all == "" || strings.Contains(all+one, "{one}") || named[kind] != "" && !strings.Contains(one, named[kind]+" = $1") {
			t.Errorf("%s: %s", kind, one)
		}
	}
	for name, want := range map[string]string{"hide": "hide", "Hide": `"Hide"`, "order": `"order"`, "a b": `"a b"`, `a"b`: `"a""b"`, "1a": `"1a"`, "a1$": "a1$", "": `""`} {
		if got := statements.Name(name); got != want {
			t.Errorf("%q is typed %s, not %s", name, got, want)
		}
	}
	if got := bulk(`"a"."b"`, []string{`"c"`, `"d"`}); got != `COPY "a"."b" ("c", "d") FROM STDIN` {
		t.Error(got)
	}
}
