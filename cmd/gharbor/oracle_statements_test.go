//go:build linux

package main

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/engine"
	"gentleharbor/standin/oracle"
)

// answering is the simulated database with a table of birds.
func answering() oracle.Config {
	config := archive()
	config.Answer = func(q oracle.Question) *oracle.Answer {
		switch {
		case strings.Contains(q.SQL, "slow"):
			return &oracle.Answer{Wait: time.Minute}
		case strings.Contains(q.SQL, ":1") && strings.Contains(q.SQL, "species"):
			return &oracle.Answer{Columns: []string{"NAME"}, Rows: [][]string{{strings.Join(q.Values, "|")}}}
		case strings.Contains(q.SQL, "from species"):
			return &oracle.Answer{Columns: []string{"NAME", "NOTE"}, Rows: [][]string{{"dunlin", ""}, {"knot", "grey"}}}
		case strings.Contains(q.SQL, "nowhere"):
			return &oracle.Answer{Code: 942, Message: "ORA-00942: table or view does not exist"}
		case strings.HasPrefix(q.SQL, "insert"), strings.HasPrefix(q.SQL, "INSERT"):
			return &oracle.Answer{Changed: max(1, len(q.Values))}
		case strings.HasPrefix(q.SQL, "begin"), strings.HasPrefix(q.SQL, "create"), strings.HasPrefix(q.SQL, "drop"):
			return &oracle.Answer{}
		}
		return nil
	}
	return config
}

// TestOracleStatements: query, browse and load, as far as the simulated database goes.
func TestOracleStatements(t *testing.T) {
	t.Parallel()
	p, _ := listening(t, answering())
	if got := p.OK("query", "archive", "select * from species; insert into species values ('x')").Stdout; got != "NAME\tNOTE\ndunlin\t\\N\nknot\tgrey\n" {
		t.Errorf("%q", got)
	}
	p.OK("query", "archive", "-let", "bird=x'; drop", "-format", "bare", "select name from species where name = {bird}").Has("x'; drop\n")
	p.Run("query", "archive", "select *\nfrom nowhere").Want(1).Has("statement:1", "table or view does not exist (ORA-00942)")
	p.Run("query", "archive", "-read-only", "insert into species values ('x')").Want(1).Has("only SELECT, WITH are run")
	p.Run("query", "archive", "-override", "guard=read-only", "begin null; end;\n/").Want(1).Has("only SELECT, WITH are run")
	p.OK("query", "archive", "-read-only", "select * from species")
	p.OK("query", "archive", "-atomic", "insert into species values ('x'); insert into species values ('y')")
	start := time.Now()
	p.Run("query", "archive", "-statement-timeout", "100ms", "select slow from dual").Want(1).Has("cancelled at the server after 100ms")
	if time.Since(start) > 10*time.Second {
		t.Error("the server was not told")
	}
	for _, kind := range catalogue.KindsOf(new(engine.Catalogue)) {
		if r := p.Run("browse", "sys", string(kind.Word)); r.Code != 0 || !strings.HasPrefix(r.Stdout, head(kind.Word)) || strings.Count(r.Stdout, "\n") < 2 {
			t.Errorf("%s: %d %q %q", kind.Word, r.Code, r.Stdout, r.Stderr)
		}
	}
	p.OK("browse", "archive").Has("CURATOR", "create session")
	p.OK("browse", "archive", "databases").Has("this login sees only a part of the databases")
	p.Run("browse", "archive", "activity").Want(1).Has("this login may not read the activity", "ORA-00942")
	p.OK("browse", "archive", "tables", "species").Has("CURATOR\tSPECIES\ttable\t12000")

	folder := scripts(t, p, map[string]string{
		"all.sql":  "set echo off\nprompt makes it\n@part\nbegin\n  null;\nend;\n/\ninsert into species values ('a');\nexit\n",
		"part.sql": "create table species(id number);\n", "drop.sql": "drop table species;", "rows.csv": "id\n1\n2\n3\n",
	})
	p.OK("load", "archive", filepath.Join(folder, "all.sql")).Has("makes it", "3 statements, 1 row; made 1 table")
	p.Run("load", "archive", filepath.Join(folder, "drop.sql")).Want(2).Has("drops the table SPECIES, which is there")
	p.OK("load", "archive", filepath.Join(folder, "rows.csv"), "-table", "species").Has("loaded: 3 rows into CURATOR.SPECIES")
}
