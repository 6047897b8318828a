package catalogue

import (
	"slices"
	"strings"
)

// Difference is a thing that differs on two servers.
type Difference struct {
	Key    []string // the values of the kind's first columns
	Column string   // in which; "" for one that only one server has
	A, B   *string  // nil: not known there; without a Column "there" or nil
}

// there stands for a thing that a server has.
var there = "there"

// Compare returns the things of a kind that differ. It does not compare sizes, counts and comments: they always
// differ, or do not matter.
func Compare(kind *Kind, a, b []Row) []Difference {
	a, b = mergeRows(kind, a), mergeRows(kind, b)
	ofB := make(map[string]Row, len(b))
	for _, row := range b {
		ofB[row.key(kind)] = row
	}
	var all []Difference
	seen := make(map[string]bool, len(a))
	for _, row := range a {
		key := row.key(kind)
		seen[key] = true
		other, both := ofB[key]
		if !both {
			all = append(all, Difference{Key: row.names(kind), A: &there})
			continue
		}
		for i, c := range kind.Columns[kind.Key:] {
			if c.Is == Size || c.Is == Number || c.Name == "comment" {
				continue
			}
			x, y := row.Values[kind.Key+i], other.Values[kind.Key+i]
			if (x == nil) != (y == nil) || x != nil && *x != *y {
				all = append(all, Difference{Key: row.names(kind), Column: c.Name, A: x, B: y})
			}
		}
	}
	for _, row := range b {
		if !seen[row.key(kind)] {
			all = append(all, Difference{Key: row.names(kind), B: &there})
		}
	}
	slices.SortStableFunc(all, func(x, y Difference) int { return slices.Compare(x.Key, y.Key) })
	return all
}

func (r Row) names(kind *Kind) (names []string) {
	for i := range kind.Key {
		names = append(names, r.Text(i))
	}
	return names
}

// key is what two rows of one thing share.
func (r Row) key(kind *Kind) (key string) {
	for _, name := range r.names(kind) {
		key += name + "\x00"
	}
	return key
}

// mergeRows merges rows with the same key: a right that an account has in several ways has several rows.
func mergeRows(kind *Kind, rows []Row) []Row {
	at := make(map[string]int, len(rows))
	var all []Row
	for _, row := range rows {
		key := row.key(kind)
		i, again := at[key]
		if !again {
			at[key] = len(all)
			all = append(all, Row{Values: slices.Clone(row.Values), System: row.System})
			continue
		}
		for n := kind.Key; n < len(kind.Columns); n++ {
			if more := row.Text(n); more != "" && more != all[i].Text(n) {
				both := strings.TrimPrefix(all[i].Text(n)+"; "+more, "; ")
				all[i].Values[n] = &both
			}
		}
	}
	return all
}
