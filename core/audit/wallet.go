package audit

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"slices"
	"strings"

	"gentleharbor/core/finding"
)

// wallet looks at the wallet's readers and, where it is open, at its entries.
func (a *auditor) wallet() {
	if a.Wallet == nil {
		return
	}
	at := Place{File: a.Wallet.Path}
	for _, r := range a.Wallet.Readers() {
		what := "all entries"
		if a.Opened != nil {
			what = strings.Join(a.Opened.Names(), ", ")
		}
		a.found(finding.AuditReader, Low, at, "the reader %s (since %s) can read %s",
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
			a.found(finding.AuditUnboundEntry, Medium, Place{File: a.Wallet.Path, Entry: e.Name},
				"the entry is tied to no server: any profile of yours that names it gets the password, for any server").
				Advise("tie it to a server: gharbor wallet bind %s PROFILE", e.Name)
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
		a.found(finding.AuditReusedSecret, Medium, Place{File: a.Wallet.Path, Entry: names[0]},
			"the entries %s have the same password", strings.Join(names, ", ")).
			Suggest("gharbor wallet keep %s -generate 32 -replace   # and change it on its server", names[1])
	}
}
