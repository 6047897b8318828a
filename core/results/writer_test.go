package results

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"gentleharbor/core/engine"
)

func bytesOf(values ...any) [][]byte {
	var row [][]byte
	for _, v := range values {
		if v == nil {
			row = append(row, nil)
		} else {
			row = append(row, []byte(fmt.Sprint(v)))
		}
	}
	return row
}

var birds = []engine.Column{{Name: "id", Type: "int4", Number: true}, {Name: "species", Type: "text"}, {Name: "note"}, {Name: "seen", Truth: true}, {Name: "more", JSON: true}}

// write writes rows, and is the text.
func write(t *testing.T, l Layout, columns []engine.Column, rows ...[][]byte) string {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(&out, l)
	if err != nil {
		t.Fatal(err)
	}
	if err := w.Begin(columns); err != nil {
		t.Fatal(err)
	}
	for _, row := range rows {
		if err := w.Row(row); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(w.End(engine.Outcome{Rows: int64(len(rows))}), w.Close()); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// TestFormats: each format, with NULL, an empty text, and everything that means something in one.
func TestFormats(t *testing.T) {
	rows := [][][]byte{
		bytesOf(7, "dunlin", nil, "t", `{"a": 1}`),
		bytesOf(12345, "red, \"knot\"\t", "", "f", nil),
		bytesOf("NaN", "a\nb\\", "é", nil, `[`),
	}
	for format, want := range map[string]string{
		"csv":        "id,species,note,seen,more\r\n7,dunlin,,t,\"{\"\"a\"\": 1}\"\r\n12345,\"red, \"\"knot\"\"\t\",\"\",f,\r\nNaN,\"a\nb\\\",é,,[\r\n",
		"tsv":        "id\tspecies\tnote\tseen\tmore\n7\tdunlin\t\\N\tt\t{\"a\": 1}\n12345\tred, \"knot\"\\t\t\tf\t\\N\nNaN\ta\\nb\\\\\té\t\\N\t[\n",
		"json-lines": "{\"id\":7,\"species\":\"dunlin\",\"note\":null,\"seen\":true,\"more\":{\"a\":1}}\n{\"id\":12345,\"species\":\"red, \\\"knot\\\"\\t\",\"note\":\"\",\"seen\":false,\"more\":null}\n{\"id\":\"NaN\",\"species\":\"a\\nb\\\\\",\"note\":\"é\",\"seen\":null,\"more\":\"[\"}\n",
		"table":      "   id  species        note  seen  more\n    7  dunlin         null  t     {\"a\": 1}\n12345  red, \"knot\"\\t        f     null\n  NaN  a\\nb\\          é     null  [\n",
	} {
		if got := write(t, Layout{Format: format}, birds, rows...); got != want {
			t.Errorf("%s:\n%q\nnot\n%q", format, got, want)
		}
	}
	var document struct {
		Format  int
		Results []struct {
			Result  int
			Columns []struct{ Name, Type string }
			Rows    []map[string]any
		}
	}
	if err := json.Unmarshal([]byte(write(t, Layout{Format: "json"}, birds, rows...)), &document); err != nil || document.Format != 1 || len(document.Results) != 1 || len(document.Results[0].Rows) != 3 || document.Results[0].Columns[0].Type != "int4" || document.Results[0].Rows[0]["species"] != "dunlin" {
		t.Errorf("%+v %v", document, err)
	}
	if got := write(t, Layout{Format: "bare"}, birds[1:2], bytesOf("dunlin"), bytesOf("knot")); got != "dunlin\nknot\n" {
		t.Errorf("%q", got)
	}
	if got := write(t, Layout{Format: "json-lines", Several: true}, birds[:1], bytesOf(7)); got != "{\"result\":1,\"row\":{\"id\":7}}\n" {
		t.Errorf("%q", got)
	}
	if got := write(t, Layout{Format: "table", Stacked: true}, birds[:2], bytesOf(7, "dunlin"), bytesOf(8, nil)); got != "id       7\nspecies  dunlin\n\nid       8\nspecies  null\n" {
		t.Errorf("%q", got)
	}
	if got := write(t, Layout{Format: "csv"}, []engine.Column{{Name: "a"}, {Name: "a"}, {Name: "a_2"}, {Name: "a"}}); got != "a,a_2,a_2_2,a_3\r\n" {
		t.Errorf("%q", got)
	}
}

// TestTerminal: a table fits its window, and nothing in it steers the terminal.
func TestTerminal(t *testing.T) {
	columns := []engine.Column{{Name: "a\x1b[2J"}, {Name: "b"}, {Name: "c"}, {Name: "d"}}
	got := write(t, Layout{Format: "table", Terminal: true, Width: 40}, columns, bytesOf("\x1b]0;x\x07", strings.Repeat("鳥", 12), "ccccccccccc", "d"), bytesOf("x", nil, "", ""))
	if strings.ContainsAny(got, "\x1b\x07") || !strings.Contains(got, "and 2 more columns: -stacked") {
		t.Errorf("%q", got)
	}
	for line := range strings.Lines(got) {
		if n := len([]rune(line)); n > 41 {
			t.Errorf("%d columns: %q", n, line)
		}
	}
	if got := write(t, Layout{Format: "csv", Terminal: false}, columns[:1], bytesOf("\x1b[31m")); !strings.Contains(got, "\x1b[31m") {
		t.Errorf("a file's bytes are changed: %q", got)
	}
	if cut("abcdef", 4) != "abc…" || cut("abc", 3) != "ab…" && columnsOf("abc") != 3 {
		t.Error("cut")
	}
}

func columnsOf(s string) int { return columns(s) }

// TestOneResult: what a format can't hold is an error, and JSON numbers results.
func TestOneResult(t *testing.T) {
	for format, want := range map[string]error{"csv": ErrOneResult, "tsv": ErrOneResult, "bare": ErrOneResult, "json": nil, "json-lines": nil, "table": nil} {
		w, _ := NewWriter(io.Discard, Layout{Format: format})
		var done []engine.Outcome
		w.Ended = func(d engine.Outcome) { done = append(done, d) }
		for i := range 2 {
			err := w.Begin(birds[:1])
			if i == 1 && !errors.Is(err, want) || i == 0 && err != nil {
				t.Errorf("%s, result %d: %v", format, i+1, err)
			}
			w.End(engine.Outcome{Command: "SELECT"})
		}
		if len(done) != 2 {
			t.Errorf("%s: %v", format, done)
		}
	}
	w, _ := NewWriter(io.Discard, Layout{Format: "bare"})
	if err := w.Begin(birds); !errors.Is(err, ErrOneColumn) {
		t.Error(err)
	}
	if _, err := NewWriter(nil, Layout{Format: "xml"}); err == nil {
		t.Error("a format that is none")
	}
	if got := write(t, Layout{Format: "json"}, nil); !json.Valid([]byte(got)) {
		t.Errorf("%q", got)
	}
}

// failing is a disk that is full.
type failing struct{}

func (failing) Write([]byte) (int, error) { return 0, errors.New("the disk is full") }

func TestFullDisk(t *testing.T) {
	w, _ := NewWriter(failing{}, Layout{Format: "csv"})
	w.Begin(birds[:1])
	var err error
	for range 100_000 {
		if err = w.Row(bytesOf("dunlin")); err != nil {
			break
		}
	}
	if err == nil || w.Close() == nil {
		t.Error("a full disk is not told")
	}
}

// FuzzValues: what is written as CSV and JSON is read back as it was.
func FuzzValues(f *testing.F) {
	f.Add("a,\"b\"\r\n", "12.50", true)
	f.Add("", "-0", false)
	f.Add("\xff\x00", "1e5", false)
	f.Add("\r\r\n", "0", true)
	f.Add("0", "1E1000", false)
	f.Fuzz(func(t *testing.T, text, number string, null bool) {
		row := bytesOf(text, number)
		if null {
			row[1] = nil
		}
		columns := []engine.Column{{Name: "a"}, {Name: "b", Number: true}}
		records, err := csv.NewReader(strings.NewReader(write(t, Layout{Format: "csv"}, columns, row))).ReadAll()
		want := strings.ReplaceAll(text, "\r\n", "\n") // as the standard library's reader has it
		if err != nil || len(records) != 2 || records[1][0] != want {
			t.Errorf("%q: %q %v", text, records, err)
		}
		var object map[string]any
		decoder := json.NewDecoder(strings.NewReader(write(t, Layout{Format: "json-lines"}, columns, row)))
		decoder.UseNumber() // a number may have more digits than a float64
		if err := decoder.Decode(&object); err != nil || object["a"] != strings.ToValidUTF8(text, "\uFFFD") && !strings.Contains(object["a"].(string), "\uFFFD") {
			t.Errorf("%q: %v %v", text, object, err)
		}
	})
}

// BenchmarkCSV writes rows beside the standard library's writer.
func BenchmarkCSV(b *testing.B) {
	row := bytesOf(12345, "Calidris alpina", "on the outer flats, with others", "2026-11-28 03:30:00+00", nil)
	columns := []engine.Column{{Name: "id"}, {Name: "species"}, {Name: "note"}, {Name: "at"}, {Name: "more"}}
	b.Run("ours", func(b *testing.B) {
		w, _ := NewWriter(io.Discard, Layout{Format: "csv"})
		w.Begin(columns)
		for b.Loop() {
			w.Row(row)
		}
	})
	b.Run("encoding/csv", func(b *testing.B) {
		w := csv.NewWriter(io.Discard)
		record := make([]string, len(row))
		for b.Loop() {
			for i := range row {
				record[i] = string(row[i])
			}
			w.Write(record)
		}
	})
}

// TestBase64: bytes in base64, and nothing else.
func TestBase64(t *testing.T) {
	var out bytes.Buffer
	w, err := NewWriter(&out, Layout{Format: "csv", Base64: true})
	if err != nil {
		t.Fatal(err)
	}
	w.Begin([]engine.Column{{Name: "a", Binary: true}, {Name: "b"}})
	for _, row := range [][][]byte{{[]byte(`\x00ff`), []byte(`\x00ff`)}, {nil, nil}, {[]byte(`\x`), []byte("x")}, {[]byte("odd"), nil}} {
		w.Row(row)
	}
	w.End(engine.Outcome{})
	w.Close()
	if got := out.String(); got != "a,b\r\nAP8=,\\x00ff\r\n,\r\n\"\",x\r\nodd,\r\n" {
		t.Errorf("%q", got)
	}
}
