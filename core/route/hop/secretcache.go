package hop

import (
	"sync"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/secret"
)

// SecretCache holds in memory, for as long as a tunnel lives, the secrets that its hops took and
// the keys that those opened.
type SecretCache struct {
	mu     sync.Mutex
	values map[string]secret.Value
	keys   map[string]ssh.Signer // by path
}

func (k *SecretCache) value(q secret.Query) (secret.Value, bool) {
	if k == nil {
		return secret.Value{}, false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	v, ok := k.values[q.Kind+" "+q.Address]
	return v, ok
}

func (k *SecretCache) keep(q secret.Query, v secret.Value) {
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
func (k *SecretCache) forget(q secret.Query) {
	if k == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.values, q.Kind+" "+q.Address)
}

func (k *SecretCache) key(path string) (ssh.Signer, bool) {
	if k == nil {
		return nil, false
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	s, ok := k.keys[path]
	return s, ok
}

func (k *SecretCache) keepKey(path string, s ssh.Signer) {
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
