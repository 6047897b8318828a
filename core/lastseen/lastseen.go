// Package lastseen keeps facts of each profile's last good login: how the server asked for the password, how the
// connection was encrypted, what the account may do. `audit` and `with` use them without connecting.
package lastseen

import (
	"context"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/check"
	"gentleharbor/core/profile/resolve"
)

// Login is what a login was like.
type Login struct {
	At          time.Time `json:"at"` // when it was first so
	Route       string    `json:"route"`
	Version     string    `json:"version"`
	LoginMethod string    `json:"login_method"`
	TLS         string    `json:"tls"`
	TLSVerified bool      `json:"tls_verified"`
	Superuser   bool      `json:"superuser"`
	User        string    `json:"user"`
}

type file struct {
	Format   int              `json:"format"` // 1
	Profiles map[string]Login `json:"profiles"`
}

// Store is the file that keeps it.
type Store struct{ Path string }

// maxFile bounds the file: some 300 bytes a profile.
const maxFile = 16 << 20

// Key is a profile's key: its file and its name.
func Key(p *resolve.Profile) string { return p.Path() + "#" + p.Profile.Name }

// All returns all logins; a missing or unreadable file has none.
func (s Store) All() map[string]Login {
	f := file{Profiles: map[string]Login{}}
	if data, err := atomicfile.Read(s.Path, maxFile); err == nil {
		json.Unmarshal(data, &f)
	}
	if f.Format != 1 || f.Profiles == nil {
		return map[string]Login{}
	}
	return f.Profiles
}

// Keep writes the logins of reports, if one has changed.
func (s Store) Keep(ctx context.Context, profiles []*resolve.Profile, reports []*check.Report) error {
	const lockWithin = 2 * time.Second // no test is held up by what is only good to know
	fresh := make(map[string]Login)
	for i, r := range reports {
		if i < len(profiles) && r.Reached("session") {
			fresh[Key(profiles[i])] = loginOf(r)
		}
	}
	if same(s.All(), fresh) {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(s.Path), 0o700); err != nil {
		return err
	}
	bound, cancel := context.WithTimeout(ctx, lockWithin)
	defer cancel()
	unlock, err := atomicfile.Lock(bound, s.Path)
	if err != nil {
		return err
	}
	defer unlock()
	all := s.All()
	maps.Copy(all, fresh)
	data, err := json.MarshalIndent(file{Format: 1, Profiles: all}, "", " ")
	if err != nil {
		return err
	}
	return atomicfile.Writer{}.Write(s.Path, append(data, '\n'))
}

func same(all, fresh map[string]Login) bool {
	for key, now := range fresh {
		before, ok := all[key]
		before.At = now.At
		if !ok || before != now {
			return false
		}
	}
	return true
}

func loginOf(r *check.Report) Login {
	f := r.Facts
	return Login{
		At:          time.Now().UTC().Truncate(time.Second),
		Route:       f.Route,
		Version:     f.Version,
		LoginMethod: f.LoginMethod,
		TLS:         f.TLS,
		TLSVerified: f.TLSVerified != nil && *f.TLSVerified,
		Superuser:   f.Superuser != nil && *f.Superuser,
		User:        f.User,
	}
}
