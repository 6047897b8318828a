package hop

import "gentleharbor/internal/testkit/allkeys"

// allKeys is the table of keys for the tests of this package.
var allKeys = allkeys.Keys
