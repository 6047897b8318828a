package wallet

import (
	"gentleharbor/core/engines"
	"gentleharbor/core/profile"
)

// schema is the table of keys for the tests of this package.
var schema = profile.NewSchema(engines.All())
