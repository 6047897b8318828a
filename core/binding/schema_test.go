package binding

import (
	"gentleharbor/core/engines"
	"gentleharbor/core/profile/schema"
)

// allKeys is the table of keys for the tests of this package.
var allKeys = schema.New(engines.All())
