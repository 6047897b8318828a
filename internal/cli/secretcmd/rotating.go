package secretcmd

import (
	"fmt"
	"maps"
	"slices"

	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

// rotating are the names of the entries beside whose password a new one waits.
func rotating(w *wallet.Wallet) []string {
	var names []string
	for _, e := range w.Entries {
		if e.Pending.Present() {
			names = append(names, e.Name)
		}
	}
	return names
}

// openRotations are the profiles of this machine whose rotation has not ended, by their entry of the wallet. A file
// that can't be read counts as none: it must not keep the wallet from being changed.
func (c *Call) openRotations() (map[string]string, error) {
	places, err := c.Rotations()
	if err != nil {
		return nil, err
	}
	all, err := places.All()
	open := make(map[string]string, len(all))
	for _, p := range all {
		if p.Entry != "" {
			open[p.Entry] = p.Profile
		}
	}
	return open, err
}

// keepsRotations refuses a change that takes an entry away, or renames it, while its new password waits: the server may
// have that one already.
func (c *Call) keepsRotations(w *wallet.Wallet, waiting []string) error {
	gone := slices.DeleteFunc(waiting, func(name string) bool { return w.Entry(name) != nil })
	if len(gone) == 0 {
		return nil
	}
	open, err := c.openRotations()
	if err != nil {
		return err
	}
	for _, name := range gone {
		if profile, ok := open[name]; ok {
			return rotationOpenError(name, profile)
		}
	}
	return nil
}

// rotationOpenError is the error for an entry whose rotation must be finished first.
func rotationOpenError(entry, profile string) error {
	return base.Failure(base.ExitFailed, fmt.Errorf("the rotation of entry %s has not ended, and the server may have the "+
		"new password already", entry), "gharbor secret rotate "+profile+" -resume")
}

// checkNoneOpen refuses to replace the whole wallet while a new password waits in it.
func (c *Call) checkNoneOpen() error {
	open, err := c.openRotations()
	if err != nil || len(open) == 0 {
		return err
	}
	entry := slices.Min(slices.Collect(maps.Keys(open)))
	return rotationOpenError(entry, open[entry])
}

// tellRotations says of which entries a new password waits.
func (c *Call) tellRotations(w *wallet.Wallet) error {
	waiting := rotating(w)
	if len(waiting) == 0 {
		return nil
	}
	open, err := c.openRotations()
	for _, name := range waiting {
		if profile, ok := open[name]; ok {
			c.Say("%s: a rotation has not ended: gharbor secret rotate %s -resume", name, profile)
		} else {
			c.Say("%s: a rotation on another machine has not ended", name)
		}
	}
	return err
}
