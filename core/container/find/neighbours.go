package find

import (
	"context"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/container/api"
	"gentleharbor/core/hostname"
)

// neighbourBudget bounds a look for a hint, which nobody asked for.
const neighbourBudget = 1500 * time.Millisecond

// cachedLook is a look for hints, which one is enough for in a run of the program.
type cachedLook struct {
	once  sync.Once
	views []View
}

// Nearby are the containers of this machine's engines that are servers of an engine's
// kind, for a hint where a local address refused. No server is dialled.
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
