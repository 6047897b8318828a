package statement

import (
	"fmt"
	"strings"
	"testing"

	"gentleharbor/core/engines"
)

func TestEffects(t *testing.T) {
	for script, want := range map[string]string{
		"postgresql create table Hide(id int)":                                                   "make table .hide!",
		"postgresql create table if not exists marsh.\"Odd Name\" (a int)":                       "make table marsh.Odd Name",
		"postgresql create unlogged table a.b as select 1":                                       "make table a.b!",
		"postgresql create or replace view v as select 1":                                        "make view .v!",
		"postgresql create materialized view v as select 1":                                      "make materialized view .v!",
		"postgresql create unique index concurrently i on t(a)":                                  "make index .i!",
		"postgresql create index on t(a)":                                                        "make index!",
		"postgresql create function marsh.f(a int, b numeric(1,2)) returns int language sql":     "make function marsh.f!",
		"postgresql drop table a, marsh.b, \"c.d\" cascade":                                      "drop table .a marsh.b .c.d!",
		"postgresql drop function if exists f(int, (a)), g":                                      "drop function .f .g",
		"postgresql drop /* not */ table -- this\n if exists only1":                              "drop table .only1",
		"postgresql alter table only marsh.hide add x int":                                       "change table marsh.hide!",
		"postgresql truncate table only a, b":                                                    "empty table .a .b!",
		"postgresql delete from a":                                                               "empty table .a!",
		"postgresql delete from a where id = 1":                                                  "change table .a!",
		"postgresql update only a set b = 1":                                                     "change table .a!",
		"postgresql insert into marsh.a values (1)":                                              "fill table marsh.a!",
		"postgresql copy marsh.hide (id, name) from stdin":                                       "fill table marsh.hide!",
		"postgresql copy marsh.hide to stdout":                                                   "",
		"postgresql create event trigger e on ddl_command_start execute function f()":            "make event trigger .e!",
		"postgresql create user mapping for warden server s":                                     "make user .for!",
		"postgresql select 1":                                                                    "",
		"postgresql create":                                                                      "",
		"postgresql grant select on a to b":                                                      "",
		"mysql create temporary table `a``b`.`c` (x int)":                                        "make table a`b.c!",
		"mysql create algorithm=merge definer=`x`@`y` sql security definer view `v` as select 1": "make view .v!",
		"mysql drop table if exists `Hide`, Odd":                                                 "drop table .Hide .Odd",
		"mysql /*!50001 drop view if exists `v`*/":                                               "drop view .v",
		"mysql # x\n create database /*!32312 if not exists*/ `marsh` /*!40100 x */":             "make database .marsh",
		"mysql insert ignore into `a` values (1)":                                                "fill table .a!",
		"mysql replace into a.b values (1)":                                                      "fill table a.b!",
		"oracle drop table hide":                                                                 "drop table .HIDE!",
		"oracle create or replace package body p as begin end;\n/":                               "make package .P!",
	} {
		word, text, _ := strings.Cut(script, " ")
		p, err := NewSplitter(strings.NewReader(text), lexis(word)).Next()
		if err != nil {
			t.Fatal(script, err)
		}
		got := ""
		for _, e := range Effects(p, engines.All().ByWord(word).Statements) {
			got = fmt.Sprintf("%s %s", e.Deed, e.Kind)
			for _, n := range e.Names {
				got += " " + n.Schema + "." + n.Name
			}
			if e.Sure {
				got += "!"
			}
		}
		if got != want {
			t.Errorf("%s: %q, not %q", script, got, want)
		}
	}
}
