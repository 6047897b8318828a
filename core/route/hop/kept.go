package hop

import (
	"sync"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/secret"
)

// Kept is what a tunnel holds in memory for as long as it lives: the secrets that
// its hops took, and the keys that they opened.
type Kept struct {
	mu     sync.Mutex
	values map[string]secret.Value
	keys   map[string]ssh.Signer // by path
}

func (k *Kept) value(q secret.Query) (secret.Value, bool) {
	if k == nil {
		return secret.Value{}, false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	v, ok := k.values[q.Kind+" "+q.Address]
	return v, ok
}

func (k *Kept) keep(q secret.Query, v secret.Value) {
	if k == nil || !v.Present() {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.values == nil {
		k.values = make(map[string]secret.Value)
	}
	k.values[q.Kind+" "+q.Address] = v
}

// forget drops a secret that was refused.
func (k *Kept) forget(q secret.Query) {
	if k == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.values, q.Kind+" "+q.Address)
}

func (k *Kept) key(path string) (ssh.Signer, bool) {
	if k == nil {
		return nil, false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	s, ok := k.keys[path]
	return s, ok
}

func (k *Kept) keepKey(path string, s ssh.Signer) {
	if k == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.keys == nil {
		k.keys = make(map[string]ssh.Signer)
	}
	k.keys[path] = s
}
