package audit

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"slices"
	"strings"

	"gentleharbor/core/finding"
	"gentleharbor/core/rotation"
)

// rotations checks the rotations that have begun on this machine and not ended. It returns their entries of the
// wallet.
func (a *auditor) rotations() (entries []string) {
	folder := rotation.FolderOf(a.Folder)
	all, err := folder.All()
	if err != nil { // the folder's permissions have an issue of their own
		return nil
	}
	for _, p := range all {
		path, since := folder.File(p.Profile), ""
		a.secretFile(path, "the file of a rotation")
		if !p.Begun.IsZero() {
			since = " of " + p.Begun.Format("2006-01-02")
		}
		entries = append(entries, p.Entry)
		a.addIssue(finding.AuditRotationOpen, Medium, Place{File: path, Profile: p.Profile},
			"the rotation%s has not ended: two passwords are kept, and the server takes one of them", since).
			Suggest("gharbor secret rotate %s -resume", p.Profile)
	}
	return entries
}

// wallet checks the wallet's readers and, where it is open, its entries. rotating are the entries whose rotation has
// not ended.
func (a *auditor) wallet(rotating []string) {
	if a.Wallet == nil {
		return
	}
	at := Place{File: a.Wallet.Path}
	for _, r := range a.Wallet.Readers() {
		what := "all entries"
		if a.Opened != nil {
			what = strings.Join(a.Opened.Names(), ", ")
		}
		a.addIssue(finding.AuditReader, Low, at, "the reader %s (since %s) can read %s",
			r.Name, r.Added.Format("2006-01-02"),
			what).
			Suggest("gharbor wallet reader remove %s   # if nothing runs by it any more", r.Name)
	}
	if a.Opened == nil {
		return
	}
	key := make([]byte, sha256.Size)
	rand.Read(key)
	same := make(map[string][]string) // entries by the keyed hash of their secrets; the key is gone with the program
	for _, e := range a.Opened.Entries {
		if len(e.Bindings) == 0 {
			a.addIssue(finding.AuditUnboundEntry, Medium, Place{File: a.Wallet.Path, Entry: e.Name},
				"the entry is tied to no server: any profile of yours that names it gets the password, for any server").
				Advise("tie it to a server: gharbor wallet bind %s PROFILE", e.Name)
		}
		if e.Pending.Present() && !slices.Contains(rotating, e.Name) {
			a.addIssue(finding.AuditRotationOpen, Medium, Place{File: a.Wallet.Path, Entry: e.Name},
				"a rotation on another machine has not ended: a new password waits beside this one").
				Advise("on that machine: gharbor secret rotate PROFILE -resume")
		}
		h := hmac.New(sha256.New, key)
		h.Write([]byte(e.Secret.Disclose()))
		sum := string(h.Sum(nil))
		same[sum] = append(same[sum], e.Name)
	}
	var groups [][]string
	for _, names := range same {
		if len(names) > 1 {
			groups = append(groups, names)
		}
	}
	slices.SortFunc(groups, func(x, y []string) int { return strings.Compare(x[0], y[0]) })
	for _, names := range groups {
		a.addIssue(finding.AuditReusedSecret, Medium, Place{File: a.Wallet.Path, Entry: names[0]},
			"the entries %s have the same password", strings.Join(names, ", ")).
			Suggest("gharbor wallet keep %s -generate 32 -replace   # and change it on its server", names[1])
	}
}
