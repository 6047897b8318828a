// Package api is a small client of the container engine's HTTP API, by its public,
// versioned interface (Docker Engine API; the daemonless engine that is compatible
// with it answers the same calls). It asks, starts, stops and makes containers, over
// a Unix socket or TCP; all that it reads is bounded in size and time. What the
// answers mean for a profile is the business of package container.
package api

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"

	"gentleharbor/core/address"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// Endpoint is where a container engine listens.
type Endpoint struct {
	Address string // unix:///PATH or tcp://HOST:PORT
	From    string // who named it: "DOCKER_HOST", "the profile", "a usual socket", "GHARBOR_ENGINES"
}

// Socket is the path of a Unix socket, "" for TCP.
func (e Endpoint) Socket() string {
	u, err := url.Parse(e.Address)
	if err != nil || u.Scheme != "unix" {
		return ""
	}
	return u.Path
}

// Host is the machine that the engine is on, "" for this one.
func (e Endpoint) Host() string {
	u, err := url.Parse(e.Address)
	if err != nil || u.Scheme != "tcp" || hostname.Local(u.Hostname()) {
		return ""
	}
	return u.Hostname()
}

// The variables by which an engine's own clients are told of TLS (Docker
// documentation, "Use TLS (HTTPS) to protect the Docker daemon socket").
const (
	verifyVariable   = "DOCKER_TLS_VERIFY"
	certPathVariable = "DOCKER_CERT_PATH"
)

// tlsPort is the port on which engines listen with TLS.
const tlsPort = "2376"

// encryption is the TLS configuration for a TCP endpoint, nil for plain TCP, which
// only an engine of this machine may speak: whoever talks to an engine owns its host.
func (e Endpoint) encryption(lookup func(string) (string, bool), home string) (*tls.Config, error) {
	u, err := url.Parse(e.Address)
	if err != nil {
		return nil, err
	}
	verify, _ := lookup(verifyVariable)
	folder, _ := lookup(certPathVariable)
	if verify == "" && folder == "" && u.Port() != tlsPort {
		if e.Host() == "" {
			return nil, nil
		}
		return nil, &Error{Kind: Insecure, Endpoint: e, Err: errors.New("plain TCP, without TLS")}
	}
	if folder == "" {
		folder = filepath.Join(home, ".docker")
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: u.Hostname()}
	file := func(name string) string { return filepath.Join(folder, name) }
	switch data, err := os.ReadFile(file("ca.pem")); {
	case err == nil:
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(data) {
			return nil, &Error{Kind: Insecure, Endpoint: e, Err: fmt.Errorf("%s has no certificate", file("ca.pem"))}
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, &Error{Kind: Insecure, Endpoint: e, Err: err}
	}
	if _, err := os.Stat(file("key.pem")); err == nil {
		if found := secret.JudgeFile(file("key.pem"), "the private key"); found != nil {
			return nil, &Error{Kind: Insecure, Endpoint: e, Err: errors.New(found.Cause)}
		}
		pair, err := tls.LoadX509KeyPair(file("cert.pem"), file("key.pem"))
		if err != nil {
			return nil, &Error{Kind: Insecure, Endpoint: e, Err: fmt.Errorf("%s: %w", folder, err)}
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

// usualSockets are where engines listen: the one that runs as root, those that run
// as a user, and the daemonless one of either kind.
func usualSockets(lookup func(string) (string, bool), home string, uid int) []string {
	paths := []string{"/var/run/docker.sock"}
	runtime, _ := lookup("XDG_RUNTIME_DIR")
	if runtime == "" && uid > 0 {
		runtime = "/run/user/" + strconv.Itoa(uid)
	}
	if filepath.IsAbs(runtime) {
		paths = append(paths, filepath.Join(runtime, "docker.sock"), filepath.Join(runtime, "podman/podman.sock"))
	}
	if home != "" {
		paths = append(paths, filepath.Join(home, ".docker/run/docker.sock"),
			filepath.Join(home, ".docker/desktop/docker.sock"))
	}
	return append(paths, "/run/podman/podman.sock")
}

// Endpoints are the engines that this machine may have: the one that DOCKER_HOST
// names, and the usual sockets that are there. One that is named and is no endpoint is
// an error, beside the others.
func Endpoints(lookup func(string) (string, bool), home string, uid int) ([]Endpoint, error) {
	var all []Endpoint
	var problem error
	named, _ := lookup(address.EndpointVariable)
	switch one := (Endpoint{named, address.EndpointVariable}); {
	case named == "":
	case syntax.ValidEndpoint(named):
		all = append(all, one)
	default:
		problem = &Error{Kind: BadEndpoint, Endpoint: one}
	}
	sockets, from := usualSockets(lookup, home, uid), "a usual socket"
	if list, ok := lookup(SocketsVariable); ok {
		sockets, from = filepath.SplitList(list), SocketsVariable
	}
	for _, path := range sockets {
		info, err := os.Stat(path)
		if err != nil && !errors.Is(err, fs.ErrPermission) {
			continue
		}
		if !sameSocket(all, info, path) {
			all = append(all, Endpoint{"unix://" + path, from})
		}
	}
	return all, problem
}

// Named are the sockets that SocketsVariable names, nil where it is not set.
func Named(lookup func(string) (string, bool)) []string {
	list, _ := lookup(SocketsVariable)
	return filepath.SplitList(list)
}

// SocketsVariable names the sockets to look at in place of the usual ones, with the
// system's list separator between them.
const SocketsVariable = "GHARBOR_ENGINES"

// sameSocket reports whether a socket is among endpoints already, under any name.
func sameSocket(all []Endpoint, info fs.FileInfo, path string) bool {
	for _, e := range all {
		other, err := os.Stat(e.Socket())
		if e.Socket() == path || e.Socket() != "" && err == nil && info != nil && os.SameFile(other, info) {
			return true
		}
	}
	return false
}
