package hop

import (
	"context"
	"errors"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// SecretQueries are the secrets that a profile names for a hop: the account's password, and
// the passphrase of its key.
func SecretQueries(e resolve.Hop) []secret.Query {
	h := &Hop{Of: e, Word: e.Word(), User: e.Text(key.User), Host: e.Text(key.Host)}
	var all []secret.Query
	if e.Text(key.Secret) != "" {
		all = append(all, h.query(secret.OfHop, "secret", h.Word))
	}
	if e.Text(key.KeySecret) != "" {
		all = append(all, h.query(secret.OfKey, "key-secret", e.Text(key.Key)))
	}
	return all
}

// PromptFirst asks a person for all that the hops need: their passwords, and the passphrases of keys that no agent
// holds. It keeps the answers for later connections.
func (d *Dialer) PromptFirst(ctx context.Context, hops []*Hop) error {
	for _, h := range hops {
		if h.derived() {
			continue
		}
		for _, q := range SecretQueries(h.Of) {
			if q.Source.Kind != "ask" || q.Kind == secret.OfKey && !d.locked(ctx, h) {
				continue
			}
			if _, _, err := d.take(ctx, q); err != nil {
				return err
			}
		}
	}
	return nil
}

// locked reports whether the hop's key needs its passphrase: it is encrypted, and
// the agent does not hold it.
func (d *Dialer) locked(ctx context.Context, h *Hop) bool {
	if len(h.keys) == 0 || !h.keys[0].named {
		return false
	}
	r := &keyRing{d: d, h: h}
	defer r.close()
	data, found := r.readKey(h.keys[0])
	var missing *ssh.PassphraseMissingError
	if found != nil {
		return false
	}
	if _, err := ssh.ParsePrivateKey(data); !errors.As(err, &missing) {
		return false
	}
	if h.agent == "" || missing.PublicKey == nil {
		return true
	}
	return indexOf(r.agentKeys(ctx), missing.PublicKey) < 0
}
