package script

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engines"
	"gentleharbor/core/statement"
)

func by(word string) *engine.Statements { return engines.All().ByWord(word).Statements }

// tree writes files, and gives their folder.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	folder := t.TempDir()
	for name, text := range files {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return folder
}

// read reads a script to its end: a line for each item.
func read(path string, o Options) (lines []string, err error) {
	r, err := Open(path, o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for {
		item, err := r.Next()
		if errors.Is(err, io.EOF) {
			return lines, nil
		}
		if err != nil {
			return lines, err
		}
		line := fmt.Sprintf("%s:%d ", filepath.Base(item.File), item.Line)
		switch {
		case item.Shows:
			line += "says " + item.Echo
		case item.Database != "":
			line += "database " + item.Database
		default:
			line += string(item.Piece.Text)
		}
		if item.Data != nil {
			data, err := io.ReadAll(item.Data)
			if err != nil {
				return lines, err
			}
			line += fmt.Sprintf(" %q", data)
		}
		lines = append(lines, line)
	}
}

// TestRead: files include one another, lines for the client are carried out, and places are those of the files.
func TestRead(t *testing.T) {
	folder := tree(t, map[string]string{
		"main.sql": "\xef\xbb\xbf\\set ON_ERROR_STOP on\n\\set dir sub\n\\set who 'o''k'\n\\echo begins :dir\n\\i 'sub/with blanks.sql'\n\\ir :dir/data.sql\r\n" +
			"select :'who', :\"who\", a::text, :nobody, b[1:2];\n\\connect other\n\\timing\n\\restrict abc\nselect 2;\n\\unrestrict abc\nselect 3\n",
		"sub/with blanks.sql":    "\\i ../top.sql\n-- nothing\nselect 'in\\i blanks';",
		"sub/data.sql":           "copy a from stdin;\n1\t\\N\n\\\\.\n\\.\nselect 4;\n\\q\nselect 5;",
		"top.sql":                "select 0",
		"sub/without quotes.sql": "select 9",
		"other.sql":              "\\i sub/without quotes.sql\n",
	})
	got, err := read(filepath.Join(folder, "main.sql"), Options{By: by("postgresql")})
	want := []string{
		"main.sql:4 says begins sub", "top.sql:1 select 0", "with blanks.sql:3 select 'in\\i blanks'",
		`data.sql:1 copy a from stdin "1\t\\N\n\\\\.\n"`, "data.sql:5 select 4",
		`main.sql:7 select 'o''k', "o'k", a::text, :nobody, b[1:2]`, "main.sql:8 database other", "main.sql:11 select 2", "main.sql:13 select 3",
	}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v\n%s\nnot\n%s", err, strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if got, err := read(filepath.Join(folder, "other.sql"), Options{By: by("postgresql")}); err != nil || len(got) != 1 {
		t.Errorf("%q %v", got, err)
	}

	folder = tree(t, map[string]string{
		"a.sql": "delimiter //\nsource b file.sql\nselect ';'//\n\\. c.sql\nwarnings\nuse other//\nselect source from t//", "b file.sql": "select 'b'; select 2//\n", "c.sql": "delimiter ;\nselect 'c';select 1",
	})
	got, err = read(filepath.Join(folder, "a.sql"), Options{By: by("mysql")})
	want = []string{"b file.sql:1 select 'b'; select 2", "a.sql:3 select ';'", "c.sql:2 select 'c'", "c.sql:2 select 1", "a.sql:6 use other//\nselect source from t//"}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v %q", err, got)
	}

	folder = tree(t, map[string]string{"a.sql": "set echo off\nprompt hello\n@b\nrem x\nbegin null; end;\n/\nset role none;\nexit\nselect 1", "b.sql": "select 1 from dual;"})
	got, err = read(filepath.Join(folder, "a.sql"), Options{By: by("oracle")})
	want = []string{"a.sql:2 says hello", "b.sql:1 select 1 from dual", "a.sql:5 begin null; end;", "a.sql:7 set role none"}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%v %q", err, got)
	}
}

// TestRefused: what can't be carried out is said with its place.
func TestRefused(t *testing.T) {
	outside := tree(t, map[string]string{"x.sql": "select 1"})
	folder := tree(t, map[string]string{"loop.sql": "\\i again.sql", "again.sql": "select 1;\n\\i loop.sql", "sub/x.sql": "select 1;", "bad.sql": "select 'x"})
	os.Symlink(filepath.Join(outside, "x.sql"), filepath.Join(folder, "link.sql"))
	for _, c := range []struct{ engine, text, says string }{
		{"postgresql", "select 1;\n\\! rm x", "main.sql:2:1: gharbor can't run this line: it runs a program"},
		{"postgresql", "\\set x `date`", "it runs a program"}, {"postgresql", "\\copy a from 'b'", "a file of this machine"},
		{"postgresql", "\\o out", "a file of this machine"}, {"postgresql", "\\nonsense", "it is not understood"}, {"postgresql", "\\if true", "it is not understood"},
		{"postgresql", "\\c other warden", "only the database"}, {"postgresql", "\\c - - host", "only the database"}, {"postgresql", "\\c postgresql://a/b", "only the database"},
		{"postgresql", "\\c 'dbname=a user=b'", "only the database"}, {"postgresql", "\\i", "names no file"}, {"postgresql", "\\encoding latin1", "UTF8"},
		{"postgresql", "\\password", "password"}, {"postgresql", "select 1 \\gset", "main.sql:1:10: gharbor does not know this line"},
		{"postgresql", "\\i nowhere.sql", "nowhere.sql cannot be read: no such file"}, {"postgresql", "\n\n\\i " + outside + "/x.sql", "main.sql:3:1: the file " + outside + "/x.sql is outside of the folder"},
		{"postgresql", "\\i link.sql", "is outside of the folder"}, {"postgresql", "\\i ../../../etc/passwd", "outside of the folder"}, {"postgresql", "\\i loop.sql", "again.sql:2:1: the file"},
		{"postgresql", "\\i bad.sql", "bad.sql:1:8: quotes are not closed"}, {"postgresql", "\\i sub", "not a regular file"}, {"postgresql", "\\restrict a\n\\echo x", "the file allows none here"},
		{"postgresql", "\\set a 'select 1; select 2'\n:a; select :a;", "several statements"}, {"postgresql", "\\set a '''x'\nselect 1, :a;", "quotes are not closed"},
		{"mysql", "system ls", "runs a program"}, {"mysql", "tee x", "writes a file"}, {"mysql", "\\r a b", "only the database"}, {"mysql", "source", "names no file"}, {"mysql", "\\x", "not understood"}, {"mysql", "\\u a", "USE a;"}, {"mysql", "charset latin1", "SET NAMES"},
		{"oracle", "host ls", "runs a program"}, {"oracle", "connect a/b", "account"}, {"oracle", "spool x", "writes a file"}, {"oracle", "@", "names no file"}, {"oracle", "@http://a/b", "elsewhere"}, {"oracle", "execute x", "not understood"},
	} {
		main := filepath.Join(folder, "main.sql")
		if err := os.WriteFile(main, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := read(main, Options{By: by(c.engine)})
		var wrong *Error
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q: %v, not %q", c.text, err, c.says)
		}
	}
	main := filepath.Join(folder, "main.sql")
	os.WriteFile(main, []byte("\\i link.sql"), 0o600)
	if got, err := read(main, Options{By: by("postgresql"), Outside: true}); err != nil || len(got) != 1 {
		t.Errorf("with -outside: %q %v", got, err)
	}
	for text, says := range map[string]string{"PGDMP\x01": "plain text", "\xff\xfea\x00": "UTF-16", "PK\x03\x04": "ZIP", "BZh9": "bzip2", "\x28\xb5\x2f\xfd": "zstd", "\xfd7zXZ\x00": "xz", "\x1f\x8bxxxx": "cannot be read"} {
		os.WriteFile(main, []byte(text), 0o600)
		if _, err := read(main, Options{By: by("postgresql")}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := read(filepath.Join(folder, "none.sql"), Options{By: by("postgresql")}); err == nil || !strings.Contains(err.Error(), "no such file") {
		t.Errorf("%v", err)
	}
}

// TestPacked: a file packed by gzip is read as it is, and what is counted are its own bytes.
func TestPacked(t *testing.T) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	io.WriteString(w, strings.Repeat("select 1;\n", 100000))
	w.Close()
	folder := tree(t, map[string]string{"a.sql.gz": packed.String()})
	r, err := Open(filepath.Join(folder, "a.sql.gz"), Options{By: by("mysql")})
	if err != nil {
		t.Fatal(err)
	}
	plan := &Plan{}
	err = plan.Scan(r, by("mysql"))
	r.Close()
	if err != nil || plan.Statements != 100000 || plan.Bytes != int64(packed.Len()) {
		t.Errorf("%v %+v, %d bytes", err, plan, packed.Len())
	}
	got, err := read("-", Options{By: by("mysql"), Folder: folder, Input: bytes.NewReader(packed.Bytes())})
	if err != nil || len(got) != 100000 {
		t.Errorf("%d %v", len(got), err)
	}
}

// TestPlan: what a script does to things is known before it is sent.
func TestPlan(t *testing.T) {
	folder := tree(t, map[string]string{
		"a.sql": "drop table if exists a;\ncreate table a(x int);\ninsert into a values (1);\ninsert into a values (2);\ncopy b from stdin;\n1\n\\.\n" +
			"truncate a;\ndrop table c;\ndelete from d;\ndo $$ $$;\ncommit;\n\\c other\ngrant select on a to b;\n",
		"b.sql": "drop view a;\ndrop table a;\ncreate table e(x int);\ndrop table e;",
	})
	plan := &Plan{}
	scan := func(name string) {
		r, err := Open(filepath.Join(folder, name), Options{By: by("postgresql")})
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		if err := plan.Scan(r, by("postgresql")); err != nil {
			t.Fatal(err)
		}
	}
	scan("a.sql")
	var got []string
	for _, e := range plan.Effects {
		got = append(got, fmt.Sprintf("%s %s %s %d:%d %v", e.Deed, e.Kind, e.Name.Name, e.Line, e.Times, e.Own))
	}
	want := []string{"drop table a 1:1 false", "make table a 2:1 false", "fill table a 3:2 true", "fill table b 5:1 false", "empty table a 8:1 true", "drop table c 9:1 false", "empty table d 10:1 false"}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if len(plan.Risks) != 2 || plan.Risks[0].Line != 11 || plan.Commits == nil || plan.Commits.Line != 12 || len(plan.Databases) != 1 || plan.Statements != 11 {
		t.Errorf("%+v", plan)
	}
	scan("b.sql")
	got = nil
	for _, e := range plan.Destroys() {
		got = append(got, fmt.Sprintf("%s %s %s", filepath.Base(e.File), e.Kind, e.Name.Name))
	}
	if want := []string{"a.sql table a", "a.sql table c", "a.sql table d", "b.sql view a"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	plan = &Plan{From: Place{File: filepath.Join(folder, "a.sql"), Line: 9}}
	scan("a.sql")
	if got := plan.Destroys(); len(got) != 2 || got[0].Name.Name != "c" || plan.Statements != 5 {
		t.Errorf("from line 9: %v, %d statements", got, plan.Statements)
	}
}

// server is a runner that keeps what it was sent.
type server struct {
	sent   []string
	refuse map[string]error
	open   bool
}

func (s *server) Run(_ context.Context, st engine.Statement, to engine.Results) error {
	s.sent = append(s.sent, st.Text)
	switch st.Text {
	case "BEGIN":
		s.open = true
	case "COMMIT", "ROLLBACK":
		s.open = false
	}
	if err := s.refuse[st.Text]; err != nil {
		return err
	}
	return to.End(engine.Outcome{Changed: 1})
}

func (s *server) Take(_ context.Context, text string, data io.Reader, to engine.Results) error {
	all, err := io.ReadAll(io.LimitReader(data, 2)) // a server that refuses leaves the rest
	s.sent = append(s.sent, text+" "+string(all))
	if err == nil && s.refuse[text] == nil {
		err = to.End(engine.Outcome{Changed: 1})
	}
	return errors.Join(err, s.refuse[text])
}

func (s *server) InTransaction() bool { return s.open }
func (s *server) Took() time.Duration { return 0 }

type rows struct{ n int64 }

func (r *rows) Begin([]engine.Column) error { return nil }
func (r *rows) Row([][]byte) error          { return nil }
func (r *rows) Notice(engine.Notice)        {}
func (r *rows) End(d engine.Outcome) error {
	r.n += d.Changed
	return nil
}

// TestLoad sends a script, and stops where the server refuses.
func TestLoad(t *testing.T) {
	folder := tree(t, map[string]string{
		"a.sql": "set x = 1;\ncreate table a(x int);\n\\i b.sql\ncopy a from stdin;\n1\n2\n\\.\n\\echo half\ninsert into a values (1);\nselect pg_catalog.set_config('search_path', '', false);\nlast;\n",
		"b.sql": "create index on a(x);\nuse y;\n",
	})
	load := func(s *server, from Place, change func(*Loader)) (*Loader, error) {
		r, err := Open(filepath.Join(folder, "a.sql"), Options{By: by("postgresql")})
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		l := &Loader{Job: statement.Job{Runner: s, By: by("postgresql"), To: &rows{}}, From: from}
		if change != nil {
			change(l)
		}
		return l, l.Run(t.Context(), r, true, true)
	}
	s := &server{}
	said := ""
	l, err := load(s, Place{}, func(l *Loader) { l.Said = func(words string) { said += words } })
	if err != nil || len(s.sent) != 8 || l.Done.Statements != 8 || said != "half" || fmt.Sprint(l.Done.Made) != "[{table 1} {index 1}]" {
		t.Errorf("%v %q %+v %q", err, s.sent, l.Done, said)
	}

	no := &engine.StatementError{Message: "no"}
	s = &server{refuse: map[string]error{"copy a from stdin": no}}
	l, err = load(s, Place{}, nil)
	var stopped *StoppedError
	if !errors.As(err, &stopped) || !errors.Is(err, statement.ErrFailed) || stopped.Line != 4 || stopped.Unknown || l.Done.Statements != 4 {
		t.Errorf("%v %+v", err, l.Done)
	}

	s = &server{}
	l, err = load(s, stopped.Place, nil)
	if err != nil || l.Done.Statements != 4 || s.sent[0] != "set x = 1" || s.sent[1] != "use y" || !strings.HasPrefix(s.sent[2], "copy") {
		t.Errorf("%v %q", err, s.sent)
	}
	s = &server{}
	if _, err = load(s, Place{File: filepath.Join(folder, "b.sql"), Line: 2}, nil); err != nil || s.sent[1] != "use y" || !strings.HasPrefix(s.sent[2], "copy") {
		t.Errorf("%v %q", err, s.sent)
	}
	if _, err = load(&server{}, Place{File: "nowhere.sql", Line: 1}, nil); err == nil {
		t.Error("a place that is not in the script")
	}

	s = &server{refuse: map[string]error{"copy a from stdin": no, "last": no}}
	l, err = load(s, Place{}, func(l *Loader) { l.Job.KeepGoing = true })
	if !errors.Is(err, statement.ErrFailed) || l.Done.Statements != 6 {
		t.Errorf("%v %+v", err, l.Done)
	}
	s = &server{refuse: map[string]error{"last": no}}
	if _, err = load(s, Place{}, func(l *Loader) { l.Job.Atomic = true }); !errors.As(err, &stopped) || s.sent[0] != "BEGIN" || s.sent[len(s.sent)-1] != "ROLLBACK" {
		t.Errorf("%v %q", err, s.sent)
	}
	s = &server{refuse: map[string]error{"last": &engine.LostError{Err: io.ErrUnexpectedEOF}}}
	if _, err = load(s, Place{}, nil); !errors.As(err, &stopped) || !stopped.Unknown {
		t.Errorf("%v", err)
	}
}

// TestLoadDatabases: another database needs another connection, and no open transaction.
func TestLoadDatabases(t *testing.T) {
	folder := tree(t, map[string]string{"a.sql": "select 1;\n\\c other\nselect 2;\n", "open.sql": "begin;\n\\c other\n"})
	first, second := &server{}, &server{}
	load := func(name string, connect func(context.Context, string) (engine.Runner, error)) error {
		r, err := Open(filepath.Join(folder, name), Options{By: by("postgresql")})
		if err != nil {
			t.Fatal(err)
		}
		defer r.Close()
		l := &Loader{Job: statement.Job{Runner: first, By: by("postgresql"), To: &rows{}}, Connect: connect}
		return l.Run(t.Context(), r, true, true)
	}
	err := load("a.sql", func(_ context.Context, database string) (engine.Runner, error) {
		if database != "other" {
			t.Error(database)
		}
		return second, nil
	})
	if err != nil || !slices.Equal(first.sent, []string{"select 1"}) || !slices.Equal(second.sent, []string{"select 2"}) {
		t.Errorf("%v %q %q", err, first.sent, second.sent)
	}
	if err := load("a.sql", func(context.Context, string) (engine.Runner, error) { return nil, errors.New("gone") }); err == nil || !strings.Contains(err.Error(), "gone") {
		t.Errorf("%v", err)
	}
	first.open = true
	if err := load("open.sql", nil); err == nil || !strings.Contains(err.Error(), "a transaction is open") {
		t.Errorf("%v", err)
	}
}

// TestTextWithoutPlace: what is no text is told of without a place, which only the caller knows.
func TestTextWithoutPlace(t *testing.T) {
	_, err := Text(strings.NewReader("BZh91AY"))
	if err == nil || !strings.HasPrefix(err.Error(), "is packed with bzip2") {
		t.Errorf("%v", err)
	}
}
