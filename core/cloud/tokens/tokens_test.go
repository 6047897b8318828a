package tokens

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/secret"
)

// memory is a process that keeps tokens.
type memory map[string][]byte

func (m memory) Put(_ context.Context, name string, data []byte) error { m[name] = data; return nil }
func (m memory) Drop(_ context.Context, name string) error             { delete(m, name); return nil }
func (m memory) Get(_ context.Context, name string) ([]byte, error) {
	if data, ok := m[name]; ok {
		return data, nil
	}
	return nil, fs.ErrNotExist
}

// store keeps tokens in a temporary folder, under one key.
func store(t *testing.T, m Memory) Store {
	t.Helper()
	key := NewKey()
	return Store{
		Folder: filepath.Join(t.TempDir(), "cloud"),
		Key: func(_ context.Context, _ Owner, at KeyPlace) (secret.Value, error) {
			if at.Entry != "cloud-station" {
				return secret.Value{}, errors.New("no such entry")
			}
			return key, nil
		},
		Memory: func(context.Context) Memory { return m },
	}
}

var (
	owner = Owner{Name: "station", Identity: "01ab"}
	place = Place{Key: KeyPlace{"wallet", "cloud-station"}}
	token = &Token{Access: secret.NewValue("at-knot"), Refresh: secret.NewValue("rt-knot"), Until: time.Now().Add(time.Hour).UTC().Truncate(time.Second), Scopes: []string{"look"}}
)

// TestKept: a token that was kept comes back, for its own account alone, and its file shows nothing of it.
func TestKept(t *testing.T) {
	s := store(t, nil)
	if _, _, err := s.Load(t.Context(), owner); !errors.Is(err, ErrNone) {
		t.Errorf("before: %v", err)
	}
	if err := s.Save(t.Context(), owner, token, place); err != nil {
		t.Fatal(err)
	}
	got, at, err := s.Load(t.Context(), owner)
	if err != nil || !got.Access.Same(token.Access) || !got.Refresh.Same(token.Refresh) || !got.Until.Equal(token.Until) || at != place {
		t.Fatalf("%+v %+v %v", got, at, err)
	}
	data, _ := os.ReadFile(s.Path(owner))
	info, _ := os.Stat(s.Path(owner))
	if bytes.Contains(data, []byte("knot")) || info.Mode().Perm() != 0o600 {
		t.Errorf("%04o\n%s", info.Mode().Perm(), data)
	}
	for _, other := range []Owner{{"station", "", "02ab"}, {"other", "", "01ab"}, {"station", "/r/gharbor.toml", "01ab"}} {
		if _, _, err := s.Load(t.Context(), other); !errors.Is(err, ErrNone) {
			t.Errorf("%+v gets another's token: %v", other, err)
		}
		if _, ok := s.PlaceOf(t.Context(), other); ok {
			t.Errorf("%+v has a place", other)
		}
	}
	if at, ok := s.PlaceOf(t.Context(), owner); !ok || at != place {
		t.Errorf("%+v %v", at, ok)
	}
	if s.Path(owner) == s.Path(Owner{Name: "station", File: "/r/gharbor.toml"}) {
		t.Error("a project's account has the file of the user's")
	}
	if gone, err := s.Remove(t.Context(), owner); !gone || err != nil {
		t.Errorf("%v %v", gone, err)
	}
	if gone, err := s.Remove(t.Context(), owner); gone || err != nil {
		t.Errorf("twice: %v %v", gone, err)
	}
}

// TestDamaged: a file of which anything was changed, or that others can read, gives no token.
func TestDamaged(t *testing.T) {
	s := store(t, nil)
	if err := s.Save(t.Context(), owner, token, place); err != nil {
		t.Fatal(err)
	}
	whole, _ := os.ReadFile(s.Path(owner))
	for old, new := range map[string]string{`"format": 1`: `"format": 2`, `"account": "station"`: `"account": "other"`, `"wallet"`: `"keyring"`, `"nonce": "`: `"nonce": "AA`,
		`"sealed": "`: `"sealed": "AAAA`, "{": `{"more":1,`, `"entry": "cloud-station"`: `"entry": "other"`} {
		changed := strings.Replace(string(whole), old, new, 1)
		if changed == string(whole) {
			t.Fatalf("no %s in\n%s", old, whole)
		}
		os.WriteFile(s.Path(owner), []byte(changed), 0o600)
		if got, _, err := s.Load(t.Context(), owner); err == nil {
			t.Errorf("with %s: %+v", new, got)
		}
	}
	os.WriteFile(s.Path(owner), whole, 0o600)
	os.Chmod(s.Path(owner), 0o644)
	var failure *secret.Failure
	if _, _, err := s.Load(t.Context(), owner); !errors.As(err, &failure) {
		t.Errorf("others can read it: %v", err)
	}
	os.Remove(s.Path(owner))
	os.Mkdir(s.Path(owner), 0o700)
	if _, _, err := s.Load(t.Context(), owner); err == nil || errors.Is(err, ErrNone) {
		t.Errorf("a folder: %v", err)
	}
}

// TestForgotten: a token in memory is in no file.
func TestForgotten(t *testing.T) {
	m := memory{}
	s := store(t, m)
	if err := s.Save(t.Context(), owner, token, Place{Forget: true}); err != nil {
		t.Fatal(err)
	}
	got, at, err := s.Load(t.Context(), owner)
	if err != nil || !got.Access.Same(token.Access) || !at.Forget {
		t.Fatalf("%+v %v", at, err)
	}
	if _, err := os.Stat(s.Path(owner)); err == nil {
		t.Error("there is a file")
	}
	if _, _, err := s.Load(t.Context(), Owner{Name: "station", Identity: "02ab"}); !errors.Is(err, ErrNone) {
		t.Errorf("another identity: %v", err)
	}
	if gone, err := s.Remove(t.Context(), owner); !gone || err != nil || len(m) > 0 {
		t.Errorf("%v %v %v", gone, err, m)
	}
	none := store(t, nil)
	if err := none.Save(t.Context(), owner, token, Place{Forget: true}); err == nil {
		t.Error("nobody keeps it")
	}
}

// TestLock: one process at a time changes a token.
func TestLock(t *testing.T) {
	s := store(t, nil)
	unlock, err := s.Lock(t.Context(), owner)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := s.Lock(ctx, owner); err == nil {
		t.Error("two have the lock")
	}
	unlock()
	if unlock, err = s.Lock(t.Context(), owner); err != nil {
		t.Fatal(err)
	}
	unlock()
}
