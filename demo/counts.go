package demo

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/engines"
	"gentleharbor/core/statement"
	"gentleharbor/standin/store"
)

// counts loads a sample database, browses and queries it, and loads a file of rows.
func counts(s *stage) {
	if s.failed = errors.Join(s.profiles(), s.writeSamples()); s.failed != nil {
		return
	}
	all, rows := filepath.Join("samples", "all.sql"), filepath.Join("samples", "counts.csv")
	s.step("A script that includes others. First see what it does: nothing is sent.", 0, "load", "sightings", all,
		"-dry-run")
	s.step("It is sent on the connection that the test proved.", 0, "load", "sightings", all)
	s.step("What is there, and what may this login do?", 0, "browse", "sightings")
	s.step("A table, with the same columns for every engine.", 0, "browse", "sightings", "columns", "sighting", "-format",
		"table")
	s.step("Ask it.", 0, "query", "sightings", "-format", "table",
		"select place, count(*), sum(head_count) as birds from sighting group by 1 order by 3 desc")
	s.step("A value stays a value, whatever is in it.", 0, "query", "sightings", "-format", "table", "-let",
		"bird=x'; drop table sighting --", "select count(*) from sighting where species = {bird}")
	s.step("A mistake is shown where it is.", 1, "query", "sightings", "select place, cuont from sighting")
	s.step("A file of rows: all of them, or none.", 1, "load", "sightings", rows, "-table", "sighting")
	s.step("Or all but the bad one, which is kept.", 1, "load", "sightings", rows, "-table", "sighting", "-bad-rows",
		"bad.csv")
	s.step("For a program: exact values, one JSON value for each row.", 0, "query", "sightings", "-format", "json-lines",
		"select species, seen_at, head_count from sighting order by id desc limit 3")
}

// sampleSeed makes the rows: the same ones each time.
const sampleSeed = 17

// sampleRows is how many sightings there are.
const sampleRows = 12_000

// samples are the files of the sample database, by name: the tables of the observatory with made-up rows, in a script
// that includes others.
func samples() map[string]string {
	species := [][3]string{
		{"DN", "dunlin", "Calidris alpina"}, {"KN", "knot", "Calidris canutus"}, {"CU", "curlew", "Numenius arquata"},
		{"RK", "redshank", "Tringa totanus"}, {"AV", "avocet", "Recurvirostra avosetta"},
		{"BG", "brent goose", "Branta bernicla"}, {"OC", "oystercatcher", "Haematopus ostralegus"},
		{"TT", "turnstone", "Arenaria interpres"},
	}
	observers := strings.Fields("One Two Three Four Five Six Seven Eight Nine Ten Eleven Twelve")
	places := []string{"North Creek", "Shingle Spit", "The Lagoon", "Old Sluice"}
	random := rand.New(rand.NewPCG(sampleSeed, sampleSeed))
	first := time.Date(2024, 9, 1, 6, 0, 0, 0, time.UTC)

	var speciesText, observerText, sightingText, tideText strings.Builder
	speciesText.WriteString("insert into species (code, english, latin) values\n")
	for i, one := range species {
		fmt.Fprintf(&speciesText, "  ('%s', '%s', '%s')%s\n", one[0], one[1], one[2],
			map[bool]string{true: ";", false: ","}[i == len(species)-1])
	}
	observerText.WriteString("copy observer (id, name, joined) from stdin;\n")
	for i, name := range observers {
		joined := first.AddDate(0, -random.IntN(60), 0)
		fmt.Fprintf(&observerText, "%d\tObserver %s\t%s\n", i+1, name, joined.Format(time.DateOnly))
	}
	observerText.WriteString("\\.\n")
	sightingText.WriteString("copy sighting (id, species, observer, seen_at, place, head_count) from stdin;\n")
	for i := range sampleRows {
		at := first.Add(time.Duration(i) * 53 * time.Minute).Add(time.Duration(random.IntN(50)) * time.Minute)
		heads := fmt.Sprint(1 + random.IntN(40)*random.IntN(40))
		if random.IntN(50) == 0 {
			heads = `\N` // heard only
		}
		fmt.Fprintf(&sightingText, "%d\t%s\t%d\t%s\t%s\t%s\n", i+1, species[random.IntN(len(species))][0],
			1+random.IntN(len(observers)), at.Format(time.DateTime), places[random.IntN(len(places))], heads)
	}
	sightingText.WriteString("\\.\n")
	tideText.WriteString("copy tide_reading (taken_at, gauge, level_cm) from stdin;\n")
	for i := range 2000 {
		at := first.Add(time.Duration(i) * 6 * time.Hour)
		fmt.Fprintf(&tideText, "%s\t%s\t%d\n", at.Format(time.DateTime), places[i%2*3], 40+random.IntN(480))
	}
	tideText.WriteString("\\.\n")
	return map[string]string{
		"all.sql": "-- Saltmarsh Bird Observatory: made-up rows, the same ones each time.\n" +
			"\\set ON_ERROR_STOP on\n\\ir tables.sql\n\\ir data/species.sql\n\\ir data/observer.sql\n" +
			"\\ir data/sighting.sql\n\\ir data/tide_reading.sql\n",
		"tables.sql": "drop table if exists tide_reading, sighting, observer, species;\n" +
			"create table species (code text primary key, english text not null, latin text not null);\n" +
			"create table observer (id int primary key, name text not null, joined date);\n" +
			"create table sighting (id int primary key, species text not null references species,\n" +
			"  observer int not null references observer, seen_at timestamp not null, place text not null, head_count int);\n" +
			"create index on sighting (seen_at);\n" +
			"create table tide_reading (taken_at timestamp, gauge text, level_cm int not null);\n" +
			"comment on table sighting is 'birds that were seen, and how many';\n",
		"data/species.sql":      speciesText.String(),
		"data/observer.sql":     observerText.String(),
		"data/sighting.sql":     sightingText.String(),
		"data/tide_reading.sql": tideText.String(),
		"november.csv": "id,species,observer,seen_at,place,head_count\n20011,DN,1,2026-11-03 07:10:00,North Creek,180\n" +
			"20012,CU,2,2026-11-03 07:40:00,\"The Lagoon\",4\n",
		"counts.csv": "id,species,observer,seen_at,place,head_count\n20001,DN,1,2026-11-02 07:10:00,North Creek,240\n" +
			"20002,KN,2,2026-11-02 07:15:00,Shingle Spit,many\n20003,CU,2,2026-11-02 07:40:00,\"The Lagoon\",3\n",
	}
}

// writeSamples writes the files of the sample database.
func (s *stage) writeSamples() error {
	for name, text := range samples() {
		path := filepath.Join(s.home, "samples", name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// fill fills the server of sightings with the sample database.
func (s *stage) fill() error {
	if err := s.writeSamples(); err != nil {
		return err
	}
	files := samples()
	for _, name := range []string{"tables", "data/species", "data/observer", "data/sighting", "data/tide_reading"} {
		if err := run(s.samples, files[name+".sql"]); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// run runs a script on a store.
func run(on *store.Store, script string) error {
	splitter := statement.NewSplitter(strings.NewReader(script), engines.All().ByWord("postgresql").Statements.Lexis)
	for {
		p, err := splitter.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if p.Empty() {
			continue
		}
		answer, err := on.Run(string(p.Text), nil)
		if err != nil {
			return err
		}
		if answer.Takes == nil {
			continue
		}
		data, err := io.ReadAll(splitter.Data())
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(data)) {
			if err := on.Take(answer.Takes, answer.Into, store.Fields(strings.TrimSuffix(line, "\n"))); err != nil {
				return err
			}
		}
	}
}
