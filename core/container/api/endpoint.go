// Package api is a small client of the container engine's public, versioned HTTP interface (Docker Engine API; the
// compatible daemonless engine answers the same calls). It describes, starts, stops and makes containers, over a Unix
// socket or TCP; all that it reads is bounded in size and time. Package find knows what the answers mean for a
// profile.
package api

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/secret"
)

// Endpoint is where a container engine listens.
type Endpoint struct {
	Address string // unix:///PATH or tcp://HOST:PORT
	From    string // who named it: "DOCKER_HOST", "the profile", "a usual socket", "GHARBOR_ENGINES", "the context x"
	Context bool   // it is that of the context which the engine's client uses
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

// The variables with the TLS settings of an engine's own clients (Docker
// documentation, "Use TLS (HTTPS) to protect the Docker daemon socket").
const (
	verifyVariable   = "DOCKER_TLS_VERIFY"
	certPathVariable = "DOCKER_CERT_PATH"
)

// The ports on which engines listen, without and with TLS.
const (
	plainPort = "2375"
	tlsPort   = "2376"
)

// encryption is the TLS configuration for a TCP endpoint, nil for plain TCP. Plain TCP is only for an engine of this
// machine: access to an engine is access to its whole host.
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
	switch data, err := atomicfile.Read(file("ca.pem"), maxPEM); {
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
		pair, err := keyPair(file("cert.pem"), file("key.pem"))
		if err != nil {
			return nil, &Error{Kind: Insecure, Endpoint: e, Err: fmt.Errorf("%s: %w", folder, err)}
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

// maxPEM bounds a file of certificates, or of a key, of an engine's client.
const maxPEM = 1 << 20

func keyPair(certificate, key string) (pair tls.Certificate, err error) {
	chain, err := atomicfile.Read(certificate, maxPEM)
	if err != nil {
		return pair, err
	}
	private, err := atomicfile.Read(key, maxPEM)
	if err != nil {
		return pair, err
	}
	return tls.X509KeyPair(chain, private)
}

// usualSockets are the sockets of engines: of the one that runs as root, of those that run as a user, and of the
// daemonless one of either kind.
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

// Endpoints are the engines that this machine may have: the one of DOCKER_HOST, else of the context of the engine's
// client, and the usual sockets that exist. Where a named one is no endpoint, there is an error beside the others.
func Endpoints(lookup func(string) (string, bool), home string, uid int) ([]Endpoint, error) {
	var all []Endpoint
	var problem error
	named, _ := lookup(address.EndpointVariable)
	named = withUsualParts(named, lookup)
	switch one := (Endpoint{Address: named, From: address.EndpointVariable}); {
	case named == "":
		of, ok := contextEndpoint(lookup, home)
		if _, own := lookup(SocketsVariable); !ok || own { // who names sockets means those
			break
		}
		if all = append(all, of); !syntax.ValidEndpoint(of.Address) {
			all, problem = nil, &Error{Kind: BadEndpoint, Endpoint: of}
		}
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
			all = append(all, Endpoint{Address: "unix://" + path, From: from})
		}
	}
	return all, problem
}

// withUsualParts adds to DOCKER_HOST what the engine's client adds: tcp:// before HOST:PORT, and the usual port
// (Docker documentation, "dockerd", -H).
func withUsualParts(named string, lookup func(string) (string, bool)) string {
	if named != "" && !strings.Contains(named, ":/") {
		if _, _, err := net.SplitHostPort(named); err != nil {
			return named
		}
		named = "tcp://" + named
	}
	u, err := url.Parse(named)
	if err != nil || u.Scheme != "tcp" || u.Host == "" || u.Port() != "" {
		return named
	}
	port := plainPort
	if verify, _ := lookup(verifyVariable); verify != "" {
		port = tlsPort
	}
	u.Host += ":" + port
	return u.String()
}

// NamedSockets are the sockets that SocketsVariable names, nil where it is not set.
func NamedSockets(lookup func(string) (string, bool)) []string {
	list, _ := lookup(SocketsVariable)
	return filepath.SplitList(list)
}

// SocketsVariable names the sockets to use in place of the usual ones, with the system's list separator between them.
const SocketsVariable = "GHARBOR_ENGINES"

// contextEndpoint is the engine of the current context of the engine's own client (Docker documentation, "Docker
// contexts"): an engine in a desktop's virtual machine is often known by that alone. ok is false for the default
// context, and for none.
func contextEndpoint(lookup func(string) (string, bool), home string) (one Endpoint, ok bool) {
	folder := filepath.Join(home, ".docker")
	if own, _ := lookup("DOCKER_CONFIG"); own != "" {
		folder = own
	}
	name, _ := lookup("DOCKER_CONTEXT")
	if name == "" {
		var config struct{ CurrentContext string }
		if readJSON(filepath.Join(folder, "config.json"), &config) != nil {
			return one, false
		}
		name = config.CurrentContext
	}
	if name == "" || name == "default" {
		return one, false
	}
	var meta struct {
		Endpoints map[string]struct{ Host string }
	}
	sum := sha256.Sum256([]byte(name))
	path := filepath.Join(folder, "contexts", "meta", hex.EncodeToString(sum[:]), "meta.json")
	if readJSON(path, &meta) != nil || meta.Endpoints["docker"].Host == "" {
		return one, false
	}
	return Endpoint{meta.Endpoints["docker"].Host, "the context " + clean.Line(name, 60), true}, true
}

func readJSON(path string, into any) error {
	const most = 1 << 20
	data, err := atomicfile.Read(path, most)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}

// sameSocket reports whether a socket is among endpoints already, by whatever path.
func sameSocket(all []Endpoint, info fs.FileInfo, path string) bool {
	for _, e := range all {
		other, err := os.Stat(e.Socket())
		if e.Socket() == path || e.Socket() != "" && err == nil && info != nil && os.SameFile(other, info) {
			return true
		}
	}
	return false
}
