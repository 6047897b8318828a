//go:build unix

package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/binding"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
)

// wallet looks an entry up among 1,000 as a reader, and opens the wallet by its
// passphrase, whose cost is chosen to be half a second.
func (b *bench) wallet() error {
	home := filepath.Join(b.folder, "home")
	s := wallet.Store{Path: filepath.Join(home, "wallet.ghw"), Seen: filepath.Join(home, "wallets-seen.json")}
	pass := &wallet.Passphrase{Value: secret.NewValue("seven brown curlews")}
	ctx := context.Background()
	if _, err := s.Create(ctx, pass, wallet.CostFor(500*time.Millisecond)); err != nil {
		return err
	}
	var pin *wallet.Pin
	_, err := s.Update(ctx, pass, func(w *wallet.Wallet) (err error) {
		for i := range 1000 {
			name := fmt.Sprintf("entry-%04d", i)
			w.Put(wallet.Entry{
				Name:    name,
				User:    "warden",
				Secret:  secret.NewValue("a made-up password"),
				Created: time.Now(),
				Changed: time.Now(),
				Bindings: []binding.Binding{{Profile: name, Engine: "postgresql",
					Addresses: []string{fmt.Sprintf("127.0.0.1:%d", i+1)}, TLS: "offered"}},
			})
		}
		pin, err = w.AddReader("nightly", time.Now())
		return err
	})
	if err != nil {
		return err
	}
	if err := pin.WriteNew(filepath.Join(home, "reader.pin")); err != nil {
		return err
	}
	profile := "[profile.sightings]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = 1\nuser = \"warden\"\nsecret " +
		"= \"wallet\"\n"
	if err := os.WriteFile(filepath.Join(home, "profiles.toml"), []byte(profile), 0o600); err != nil {
		return err
	}
	if err := b.stage("wallet of 1,000 entries, as reader", 10); err != nil {
		return err
	}
	file := filepath.Join(b.folder, "passphrase")
	if err := os.WriteFile(file, []byte("seven brown curlews\n"), 0o600); err != nil {
		return err
	}
	return b.alone("wallet opened by its passphrase", 500, "wallet", "list", "-passphrase-file", file)
}
