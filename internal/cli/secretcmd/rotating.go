package secretcmd

import (
	"fmt"
	"maps"
	"slices"

	"gentleharbor/core/wallet"
	"gentleharbor/internal/cli/base"
)

// rotating are the names of the entries with a new password that is not in use yet.
func rotating(w *wallet.Wallet) []string {
	var names []string
	for _, e := range w.Entries {
		if e.Pending.Present() {
			names = append(names, e.Name)
		}
	}
	return names
}

// openRotations are the profiles with a pending rotation, by their entry of the wallet. A file that can't be read is
// ignored: it must not block changes of the wallet.
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

// keepsRotations refuses to remove or rename an entry with a pending new password, which the server may have already.
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

// checkNoneOpen refuses to replace the whole wallet while it has a pending new password.
func (c *Call) checkNoneOpen() error {
	open, err := c.openRotations()
	if err != nil || len(open) == 0 {
		return err
	}
	entry := slices.Min(slices.Collect(maps.Keys(open)))
	return rotationOpenError(entry, open[entry])
}

// tellRotations notes which entries have a pending new password.
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
