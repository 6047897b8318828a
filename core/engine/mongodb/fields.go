package mongodb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
)

// fieldSample is a field in a sample of documents: its types, the most frequent first, and how many documents have
// it.
type fieldSample struct {
	name  string
	kinds map[string]int
	n     int
}

// fieldRows are the fields of a sample of a collection's documents, and their types.
func (c *conversation) fieldRows(ctx context.Context, name string) ([][][]byte, error) {
	var fields []*fieldSample
	known := make(map[string]*fieldSample)
	documents := 0
	note := func(name, kind string) {
		f := known[name]
		if f == nil {
			if len(fields) >= mostFields {
				return
			}
			f = &fieldSample{name: name, kinds: make(map[string]int)}
			known[name], fields = f, append(fields, f)
		}
		f.kinds[kind]++
		f.n++
	}
	look := func(document bson.Raw) error {
		documents++
		noteFields(document, "", note)
		return nil
	}
	err := c.listDocuments(ctx, c.facts.Database, bson.D{
		{Key: "aggregate", Value: name},
		{Key: "pipeline", Value: bson.A{bson.D{{Key: "$sample", Value: bson.D{{Key: "size", Value: sampled}}}}}},
		{Key: "cursor", Value: bson.D{}},
	}, look)
	var refused *refusal
	if errors.As(err, &refused) { // a compatible server may have no samples: the first documents will do
		first := bson.D{{Key: "find", Value: name}, {Key: "limit", Value: sampled}, {Key: "singleBatch", Value: true}}
		err = c.listDocuments(ctx, c.facts.Database, first, look)
	}
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, f := range fields {
		var kinds []string
		for kind := range f.kinds {
			kinds = append(kinds, kind)
		}
		slices.SortFunc(kinds, func(a, b string) int {
			return cmp.Or(f.kinds[b]-f.kinds[a], strings.Compare(a, b))
		})
		missing := f.n < documents || f.kinds["null"] > 0
		key := ""
		if f.name == "_id" {
			key = "primary"
		}
		comment := fmt.Sprintf("in %d of %d documents", min(f.n, documents), documents)
		rows = append(rows, [][]byte{cell(c.facts.Database), cell(name), cell(f.name), cell(strings.Join(kinds, ", ")),
			[]byte(strconv.FormatBool(missing)), nil, cell(key), cell(comment), own[isSystem(name)]})
	}
	return rows, nil
}

// noteFields notes the fields of a document, and those of the documents in it.
func noteFields(document bson.Raw, before string, note func(name, kind string)) {
	const deepest = 4 // dots in a name
	elements, err := document.Elements()
	if err != nil {
		return
	}
	for _, e := range elements {
		name := before + clean.Line(e.Key(), 100)
		note(name, kindOf(e.Value()))
		if inner, ok := e.Value().DocumentOK(); ok && strings.Count(name, ".") < deepest {
			noteFields(inner, name+".", note)
		}
	}
}

// kindOf is the type of a value, by the servers' name for it (MongoDB documentation, "BSON Types").
func kindOf(value bson.RawValue) string {
	switch value.Type {
	case bson.TypeDouble:
		return "double"
	case bson.TypeString:
		return "string"
	case bson.TypeEmbeddedDocument:
		return "object"
	case bson.TypeArray:
		return "array"
	case bson.TypeBinary:
		return "binData"
	case bson.TypeObjectID:
		return "objectId"
	case bson.TypeBoolean:
		return "bool"
	case bson.TypeDateTime:
		return "date"
	case bson.TypeNull:
		return "null"
	case bson.TypeRegex:
		return "regex"
	case bson.TypeInt32:
		return "int"
	case bson.TypeTimestamp:
		return "timestamp"
	case bson.TypeInt64:
		return "long"
	case bson.TypeDecimal128:
		return "decimal"
	}
	return clean.Line(value.Type.String(), 40)
}
