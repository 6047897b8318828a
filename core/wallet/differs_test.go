package wallet

import (
	"reflect"
	"testing"

	"gentleharbor/core/binding"
	"gentleharbor/core/secret"
)

// TestDiffers: whatever an entry holds, another value of it is a difference, so that a merge keeps both.
func TestDiffers(t *testing.T) {
	same := map[string]bool{"Name": true, "Created": true, "Changed": true, "folded": true} // no loss
	values := map[string]any{
		"User":     "warden",
		"Secret":   secret.NewValue("knot"),
		"Bindings": []binding.Binding{{}},
		"Note":     "of the tides",
		"Pending":  secret.NewValue("dunlin"),
	}
	kind := reflect.TypeFor[Entry]()
	for i := range kind.NumField() {
		name := kind.Field(i).Name
		if same[name] {
			continue
		}
		value, known := values[name]
		if !known {
			t.Errorf("the test has no value for %s", name)
			continue
		}
		var ours, theirs Entry
		reflect.ValueOf(&theirs).Elem().Field(i).Set(reflect.ValueOf(value))
		if len(ours.differs(theirs)) != 1 || len(theirs.differs(theirs)) != 0 {
			t.Errorf("%s: %q, and %q of the same", name, ours.differs(theirs), theirs.differs(theirs))
		}
	}
}
