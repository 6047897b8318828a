package cli

import (
	"testing"

	"gentleharbor/core/engines"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/cli/base"
)

// TestEveryPlaceIsOffered: completion knows what may stand in each place of each command, or that nobody can say.
func TestEveryPlaceIsOffered(t *testing.T) {
	for _, place := range base.UncompletedPlaces(schema.New(engines.All()), makers()) {
		t.Errorf("completion knows nothing of %s", place)
	}
}
