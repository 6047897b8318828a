package profile

import "gentleharbor/core/engines"

// schema is the table of keys for the tests of this package.
var schema = NewSchema(engines.All())
