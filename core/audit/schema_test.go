package audit

import "gentleharbor/internal/testkit/allkeys"

// keys is the table of keys for the tests of this package.
var keys = allkeys.Keys
