package find

import (
	"context"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/container/api"
	"gentleharbor/core/hostname"
)

// neighbourBudget bounds a search for a hint, which nobody asked for.
const neighbourBudget = 1500 * time.Millisecond

// cachedLook is the search for hints, which is made once in a run of the program.
type cachedLook struct {
	once  sync.Once
	views []View
}

// Nearby are the servers of an engine in this machine's containers, for a hint where a local address refused. It
// dials no server.
func (e *Engines) Nearby(ctx context.Context, word string) []address.NearbyContainer {
	e.looked.once.Do(func() {
		ctx, cancel := context.WithTimeout(ctx, neighbourBudget)
		defer cancel()
		all, _ := api.Endpoints(e.Lookup, e.Home, e.UID)
		var local []api.Endpoint
		for _, one := range all {
			if address.LocalEndpoint(one.Address) {
				local = append(local, one)
			}
		}
		e.looked.views = e.views(ctx, local, false)
	})
	var found []address.NearbyContainer
	for _, v := range e.looked.views {
		for _, s := range v.Containers {
			if !e.Known.SameFamily(s.Engine, word) {
				continue
			}
			n := address.NearbyContainer{Ref: s.Named, Name: s.Container, State: s.State, Port: s.LocalPort()}
			for _, p := range s.wanted {
				if hostname.Local(p.host) {
					n.PublishedPorts = append(n.PublishedPorts, p.port)
				}
			}
			found = append(found, n)
		}
	}
	return found
}
