package check

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// unmetExpectation is an expectation that does not hold.
type unmetExpectation struct {
	code finding.Code
	want string
	have string
}

// expect compares what the profile expects with what was found.
func (a *attempt) expect(ctx context.Context) finding.Result {
	wanted := 0
	var wrong []unmetExpectation
	f := a.conv.Facts()
	for _, e := range a.profile.Values() {
		key, ok := strings.CutPrefix(string(e.Field.Name), "expect.")
		if !ok {
			continue
		}
		wanted++
		if have, holds := compare(key, e.Value.Text(), f); !holds {
			wrong = append(wrong, unmetExpectation{finding.Code("expect." + key), key + " " + clean.Quote(e.Value.Text()), have})
		}
	}
	if wanted == 0 {
		return finding.Good("no expectations")
	}
	missing, err := a.missing(ctx)
	if err != nil {
		return finding.FailWith(finding.New(finding.ExpectUnknown,
			"whether the expected things exist could not be checked").
			Saw("%s", clean.Line(err.Error(), 0)).Suggest("gharbor test %s", a.profile.Called))
	}
	wrong = append(wrong, missing...)
	if len(wrong) == 0 {
		return finding.Good("%d of %d hold", wanted, wanted)
	}
	found := finding.New(wrong[0].code, "expected %s, found %s", wrong[0].want, wrong[0].have)
	if len(wrong) > 1 {
		found.Cause = fmt.Sprintf("%d expectations do not hold; first, expected %s, found %s", len(wrong),
			wrong[0].want, wrong[0].have)
		for _, w := range wrong {
			found.Saw("%s: expected %s, found %s", w.code, w.want, w.have)
		}
	}
	return finding.FailWith(found.Suggest("gharbor show %s   # says where each expectation stands", a.profile.Called))
}

// listed are the expectations that things exist, each with its code and its words.
var listed = []struct {
	key       key.Name
	code      finding.Code
	what, why string
}{
	{key.ExpectTables, finding.ExpectTableMissing, "table", "not visible to this login"},
	{key.ExpectExtensions, finding.ExpectExtensionMissing, "extension", "not installed in this database"},
	{key.ExpectCollections, finding.ExpectCollectionMissing, "collection", "not visible to this login"},
	{key.ExpectIndexes, finding.ExpectIndexMissing, "index", "not visible to this login"},
	{key.ExpectKeys, finding.ExpectKeyMissing, "key", "no such key in this database"},
}

// missing asks for the things that are expected and do not exist.
func (a *attempt) missing(ctx context.Context) (wrong []unmetExpectation, err error) {
	for _, l := range listed {
		e, ok := a.profile.Get(l.key)
		if !ok || len(e.Value.List()) == 0 {
			continue
		}
		names, err := a.conv.Missing(ctx, l.key, e.Value.List())
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			wrong = append(wrong, unmetExpectation{l.code, "the " + l.what + " " + clean.Quote(name), l.why})
		}
	}
	return wrong, nil
}

// compare finds the value for an expectation, and reports whether it holds. Things that exist, such as tables, hold
// here: the server is asked for them elsewhere.
func compare(key, want string, f *engine.Facts) (have string, holds bool) {
	switch key {
	case "version":
		return clean.Quote(f.Version), versionHolds(want, f.Version)
	case "tls":
		return compareTLS(want, f)
	case "writable":
		if f.Writable == nil {
			return "not known", false
		}
		return strconv.FormatBool(*f.Writable), strconv.FormatBool(*f.Writable) == want
	case "persistent":
		if f.Persistent == nil {
			return "not known", false
		}
		return strconv.FormatBool(*f.Persistent), strconv.FormatBool(*f.Persistent) == want
	case "replica-set":
		if f.ReplicaSet == "" {
			return "a server that is in no set", false
		}
		return clean.Quote(f.ReplicaSet), f.ReplicaSet == want
	case "user":
		if f.Account != "" {
			return clean.Quote(f.Account), f.User == want || f.Account == want
		}
		return clean.Quote(f.User), f.User == want
	case "database":
		return clean.Quote(f.Database), f.Database == want
	case "encoding":
		return clean.Quote(f.Encoding), plainEncoding(f.Encoding) == plainEncoding(want)
	case "server":
		if f.Lineage == "" {
			return "not known", false
		}
		return clean.Quote(f.Lineage), f.Lineage == want
	case "collation":
		if f.Collation == "" {
			return "not known", false
		}
		return clean.Quote(f.Collation), strings.EqualFold(f.Collation, want)
	case "sql-mode":
		return clean.Quote(f.SQLMode), hasModes(f.SQLMode, want)
	case "time-zone":
		return clean.Quote(f.TimeZone), sameZone(f.TimeZone, want)
	case "latency":
		limit, err := time.ParseDuration(want)
		if err != nil || f.RoundTrip == nil {
			return "not known", false
		}
		return fmt.Sprintf("%.2f ms", *f.RoundTrip), *f.RoundTrip <= float64(limit.Microseconds())/1000
	}
	return "", true
}

// hasModes reports whether all of the wanted SQL modes are on.
func hasModes(mode, want string) bool {
	on := strings.Split(strings.ToUpper(mode), ",")
	for one := range strings.SplitSeq(strings.ToUpper(want), ",") {
		if !slices.Contains(on, strings.TrimSpace(one)) {
			return false
		}
	}
	return true
}

// sameZone compares time zones; "SYSTEM (UTC)" is both of its names.
func sameZone(zone, want string) bool {
	system, name, ok := strings.Cut(strings.TrimSuffix(zone, ")"), " (")
	return strings.EqualFold(zone, want) || ok && (strings.EqualFold(system, want) || strings.EqualFold(name, want))
}

func compareTLS(want string, f *engine.Facts) (have string, holds bool) {
	encrypted := f.TLS != "none" && f.TLS != ""
	verified := encrypted && f.TLSVerified != nil && *f.TLSVerified
	have = "not encrypted"
	if encrypted {
		have = f.TLS + ", not verified"
	}
	if verified {
		have = f.TLS + ", verified"
	}
	switch want {
	case "off", "false":
		return have, !encrypted
	case "required", "true":
		return have, encrypted
	}
	return have, verified
}

func plainEncoding(s string) string {
	return strings.NewReplacer("-", "", "_", "").Replace(strings.ToUpper(s))
}

// versionHolds compares a server's version with terms such as ">= 14, < 17".
// A bare number means that version and its minor ones: "15" holds for 15.18.
func versionHolds(terms, version string) bool {
	have := numbers(version)
	if len(have) == 0 {
		return false
	}
	for term := range strings.SplitSeq(terms, ",") {
		term = strings.TrimSpace(term)
		digits := strings.TrimLeft(term, "<>=! ")
		operator := strings.TrimSpace(term[:len(term)-len(digits)])
		want := numbers(digits)
		order := compareNumbers(have, want)
		holds := false
		switch operator {
		case "", "=", "==":
			holds = order == 0
		case "!=":
			holds = order != 0
		case ">=":
			holds = order >= 0
		case "<=":
			holds = order <= 0
		case ">":
			holds = order > 0
		case "<":
			holds = order < 0
		}
		if !holds {
			return false
		}
	}
	return true
}

// numbers reads the leading dotted number of a version: "15.18 (Debian …)" is 15, 18.
func numbers(s string) []int {
	var parts []int
	for {
		end := 0
		for end < len(s) && s[end] >= '0' && s[end] <= '9' {
			end++
		}
		n, err := strconv.Atoi(s[:end])
		if err != nil {
			return parts
		}
		parts = append(parts, n)
		if end >= len(s) || s[end] != '.' {
			return parts
		}
		s = s[end+1:]
	}
}

// compareNumbers compares as many parts as are wanted: 15.18 equals 15.
func compareNumbers(have, want []int) int {
	for i, w := range want {
		h := 0
		if i < len(have) {
			h = have[i]
		}
		if h != w {
			if h < w {
				return -1
			}
			return 1
		}
	}
	return 0
}
