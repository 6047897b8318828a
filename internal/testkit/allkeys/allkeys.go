// Package allkeys has the table of keys with all engines, for tests.
package allkeys

import (
	"strings"
	"testing"

	"gentleharbor/core/engines"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// Keys is the table.
var Keys = schema.New(engines.All())

// Sets are settings as set takes them: "host=db.example", or "host=" to take it out.
func Sets(t testing.TB, pairs ...string) []schema.Override {
	t.Helper()
	var all []schema.Override
	for _, pair := range pairs {
		k, text, _ := strings.Cut(pair, "=")
		field := Keys.Field(key.Name(k))
		if field == nil {
			t.Fatalf("no key %q", k)
		}
		v, err := field.ParseValue(text)
		if err != nil && text != "" {
			t.Fatal(err)
		}
		all = append(all, schema.Override{Field: field, Value: v, Unset: text == ""})
	}
	return all
}
