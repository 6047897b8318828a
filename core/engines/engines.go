// Package engines is the one list of the engines that the program knows. Everything else is handed it as a
// value, so that a test can hand in another.
package engines

import (
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mongodb"
	"gentleharbor/core/engine/mysql"
	"gentleharbor/core/engine/oracle"
	"gentleharbor/core/engine/postgresql"
	"gentleharbor/core/engine/redis"
)

// All is the engines, in the order in which help lists them.
func All() engine.Set {
	return engine.NewSet(
		postgresql.Spec,
		mysql.Spec,
		mysql.MariaDBSpec,
		oracle.Spec,
		redis.Spec,
		mongodb.Spec,
	)
}
