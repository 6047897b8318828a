package making

import (
	"gentleharbor/core/engines"
	"gentleharbor/core/profile/schema"
)

// keys is the table of keys for the tests of this package.
var keys = schema.New(engines.All())
