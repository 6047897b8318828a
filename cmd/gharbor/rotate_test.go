//go:build linux

package main

import (
	"path/filepath"
	"testing"
	"time"

	"gentleharbor/core/rotation"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
	"gentleharbor/internal/testkit"
)

// TestRotationOpen keeps the new password of a rotation that was broken off, until it has ended or was given up.
func TestRotationOpen(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	p.OK("add", "counts", "-engine", "postgresql", "-host", "127.0.0.1", "-port", "1", "-user", "warden", "-database", "sightings", "-secret", "wallet")
	w := withWallet(t, p)
	backup := filepath.Join(t.TempDir(), "backup.ghw")
	w.quickPut("counts", "first knot", "counts")
	w.OK("wallet", "backup", backup)
	brokenOff := func() {
		w.quick(func(in *wallet.Wallet) error {
			e := *in.Entry("counts")
			e.Pending = secret.NewValue("second knot")
			in.Put(e)
			return nil
		})
		if err := rotation.FolderOf(p.Home).Save(rotation.Pending{Profile: "counts", Entry: "counts", Begun: time.Now()}); err != nil {
			t.Fatal(err)
		}
	}
	run := func(words ...string) []string { return append(words, w.open...) }

	brokenOff()
	for _, words := range [][]string{
		{"wallet", "rename", "counts", "other"}, {"wallet", "remove", "counts", "-yes"}, {"wallet", "restore", backup},
	} {
		p.Run(run(words...)...).Want(1).Has("has not ended", "gharbor secret rotate counts -resume")
	}
	p.OK(run("wallet", "list")...).Has("counts: a rotation has not ended: gharbor secret rotate counts -resume")
	p.OK(run("wallet", "list", "-format", "json")...).Has(`"rotating": true`)
	open := p.Run(run("audit", "-format", "json")...).Has("audit.rotation-open", "gharbor secret rotate counts -resume")
	open.HasNot("another machine")
	p.Run("remove", "counts", "-yes").Want(1).Has("gharbor secret rotate counts -resume")

	// A server that is gone.
	p.Run(run("secret", "rotate", "counts", "-resume", "-timeout", "2s")...).Want(1).Has("reach.refused")
	p.Run("secret", "rotate", "-give-up").Want(2).Has("-give-up needs the name of a profile")
	p.Run("secret", "rotate", "counts", "-give-up", "-resume").Want(2).Has("give -give-up or -resume, not both")
	p.Run(run("secret", "rotate", "counts", "-give-up")...).Want(2).Has("no terminal to ask on", "-yes")
	p.OnTerminal(run("secret", "rotate", "counts", "-give-up")...).Expect("forget the new password of counts?").Type("n\n").Ends(1)
	p.OK(run("secret", "rotate", "counts", "-give-up", "-yes")...).Has("counts: the new password is forgotten, the old one stays")
	noPending(t, w)
	p.OK(run("secret", "rotate", "counts", "-give-up", "-yes")...).Has("no rotation is open")

	// A profile that is gone, and a wallet that was made elsewhere.
	brokenOff()
	p.Write(filepath.Join(p.Home, "profiles.toml"), "")
	p.Run(run("secret", "rotate", "-resume")...).Want(2).Has("gharbor secret rotate counts -give-up   # if the profile is gone")
	if err := rotation.FolderOf(p.Home).Remove("counts"); err != nil {
		t.Fatal(err)
	}
	p.OK(run("wallet", "list")...).Has("counts: a rotation on another machine has not ended")
	p.Run(run("audit")...).Has("a rotation on another machine has not ended")
	p.OK(run("wallet", "remove", "counts", "-yes")...)
}
