// Command signin is an OAuth 2.0 server with the device flow, of an independent make: github.com/zitadel/oidc. Its
// words are an address, its issuer, and the files of its certificate and key. Who knows a code confirms it by a POST
// to /test/confirm?code=CODE.
package main

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/http"
	"os"

	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"
	"golang.org/x/text/language"
)

// client is the one that the server knows.
const client = "gharbor"

// public is a client without a secret, which may use the device flow and refresh its tokens.
type public struct{ op.Client }

func (public) AuthMethod() oidc.AuthMethod { return oidc.AuthMethodNone }

func (public) GrantTypes() []oidc.GrantType {
	return []oidc.GrantType{oidc.GrantTypeDeviceCode, oidc.GrantTypeRefreshToken}
}

// memoryStorage is the example's storage, in memory, with a public client.
type memoryStorage struct{ *storage.Storage }

func (k memoryStorage) GetClientByClientID(ctx context.Context, id string) (op.Client, error) {
	client, err := k.Storage.GetClientByClientID(ctx, id)
	if err != nil {
		return nil, err
	}
	return public{client}, nil
}

// TokenRequestByRefreshToken adds the client, which the example's storage does not note in the device flow.
func (k memoryStorage) TokenRequestByRefreshToken(ctx context.Context, token string) (op.RefreshTokenRequest, error) {
	request, err := k.Storage.TokenRequestByRefreshToken(ctx, token)
	if r, ok := request.(*storage.RefreshTokenRequest); ok && r.ApplicationID == "" {
		r.ApplicationID = client
	}
	return request, err
}

// RevokeToken takes a token of the device flow too, with which the example's storage notes no client.
func (k memoryStorage) RevokeToken(ctx context.Context, token, user, id string) *oidc.Error {
	if err := k.Storage.RevokeToken(ctx, token, user, id); err == nil {
		return nil
	}
	return k.Storage.RevokeToken(ctx, token, user, "")
}

func main() {
	if len(os.Args) != 5 {
		fmt.Fprintln(os.Stderr, "signin: give an address, an issuer, a certificate's file and its key's")
		os.Exit(2)
	}
	if err := serve(os.Args[1], os.Args[2], os.Args[3], os.Args[4]); err != nil {
		fmt.Fprintln(os.Stderr, "signin:", err)
		os.Exit(1)
	}
}

func serve(address, issuer, cert, key string) error {
	storage.RegisterClients(storage.NativeClient(client))
	store := memoryStorage{storage.NewStorage(storage.NewUserStore(issuer))}
	config := &op.Config{
		CodeMethodS256:        true,
		GrantTypeRefreshToken: true,
		SupportedUILocales:    []language.Tag{language.English},
		DeviceAuthorization: op.DeviceAuthorizationConfig{
			Lifetime:     300_000_000_000,
			PollInterval: 1_000_000_000,
			UserFormPath: "/device",
			UserCode:     op.UserCodeBase20,
		},
	}
	rand.Read(config.CryptoKey[:])
	provider, err := op.NewProvider(config, store, op.StaticIssuer(issuer))
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("/", provider)
	mux.HandleFunc("POST /test/confirm", func(w http.ResponseWriter, r *http.Request) {
		const somebody = "id1" // of the example's users
		if err := store.CompleteDeviceAuthorization(r.Context(), r.FormValue("code"), somebody); err != nil {
			http.Error(w, err.Error(), http.StatusNotFound)
		}
	})
	return http.ListenAndServeTLS(address, cert, key, mux)
}
