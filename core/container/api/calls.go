package api

import (
	"archive/tar"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/secret"
)

// publishedPort is a port of a container and where it is published.
type publishedPort struct {
	IP          string // of the engine's host, "" where it is not published
	PrivatePort int
	PublicPort  int
	Type        string // "tcp", "udp"
}

// Summary is a container as a list has it.
type Summary struct {
	ID     string `json:"Id"`
	Names  []string
	Image  string
	State  string // "created", "running", "paused", "restarting", "exited", "dead"
	Status string // for people: "Up 3 minutes (healthy)"
	Ports  []publishedPort
	Labels map[string]string
}

// maxName bounds a container's name; engines have no limit.
const maxName = 256

// Name is the container's own name, without the slash before it.
func (s Summary) Name() string {
	for _, name := range s.Names { // links to it have a second slash
		if name = strings.TrimPrefix(name, "/"); !strings.Contains(name, "/") {
			return clean.Line(name, maxName)
		}
	}
	return clean.Line(s.ID[:min(len(s.ID), 12)], maxName)
}

// Binding is an address of the engine's host at which a port is published.
type Binding struct{ HostIp, HostPort string }

// Mount is a file or folder that a container gets from outside.
type Mount struct {
	Type        string // "bind", "volume", "tmpfs"
	Name        string // of a volume
	Source      string
	Destination string
}

// Network is a network that a container is in.
type Network struct {
	NetworkID         string
	IPAddress         string
	Gateway           string
	GlobalIPv6Address string
	IPv6Gateway       string
}

// Container is the engine's description of a container.
type Container struct {
	ID           string `json:"Id"`
	Name         string
	RestartCount int
	State        struct {
		Status   string
		Running  bool
		Paused   bool
		ExitCode int
		Error    string
		Health   *struct {
			Status string // "starting", "healthy", "unhealthy", "none"
			Log    []struct {
				ExitCode int
				Output   string
			}
		}
		OOMKilled bool
		StartedAt string
	}
	Config struct {
		Image        string
		Env          Environment
		ExposedPorts map[string]struct{}
		Labels       map[string]string
		Tty          bool
	}
	HostConfig struct {
		NetworkMode  string
		PortBindings map[string][]Binding
		Tmpfs        map[string]string
	}
	NetworkSettings struct {
		Ports    map[string][]Binding
		Networks map[string]Network
	}
	Mounts []Mount
}

// Environment is a container's environment. Any value may be a secret, so each is kept as one.
type Environment map[string]secret.Value

// UnmarshalJSON reads the engine's list of NAME=VALUE.
func (e *Environment) UnmarshalJSON(data []byte) error {
	var pairs []string
	if err := json.Unmarshal(data, &pairs); err != nil {
		return err
	}
	*e = make(Environment, len(pairs))
	for _, pair := range pairs {
		name, value, _ := strings.Cut(pair, "=")
		(*e)[name] = secret.NewValue(value)
	}
	return nil
}

// List lists containers, stopped ones too, that have all of some labels
// ("NAME=VALUE"); none means all containers.
func (c *Client) List(ctx context.Context, labels ...string) ([]Summary, error) {
	query := url.Values{"all": {"1"}}
	if len(labels) > 0 {
		filters, err := json.Marshal(map[string][]string{"label": labels})
		if err != nil {
			return nil, err
		}
		query.Set("filters", string(filters))
	}
	var all []Summary
	err := c.call(ctx, http.MethodGet, "/containers/json", query, nil, &all)
	return all, err
}

// Inspect describes a container, by its id or name.
func (c *Client) Inspect(ctx context.Context, id string) (*Container, error) {
	var one Container
	if err := c.call(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/json", nil, nil, &one); err != nil {
		return nil, err
	}
	one.Name = clean.Line(strings.TrimPrefix(one.Name, "/"), maxName)
	return &one, nil
}

// Logs are a container's last lines, of both its streams.
func (c *Client) Logs(ctx context.Context, one *Container, lines int) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	answer, err := c.send(ctx, http.MethodGet, "/containers/"+url.PathEscape(one.ID)+"/logs",
		url.Values{"stdout": {"1"}, "stderr": {"1"}, "tail": {strconv.Itoa(lines)}}, nil)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxLog))
	if err != nil && len(data) == 0 {
		return nil, c.explainError(ctx, err)
	}
	if !one.Config.Tty {
		data = unframe(data)
	}
	text := strings.TrimRight(string(data), "\r\n")
	if text == "" {
		return nil, nil
	}
	return strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n"), nil
}

// unframe takes the text of both streams out of a log's frames (Docker Engine API, "Stream format": one byte for the
// stream, three zero bytes, four bytes of length). It returns bytes that are no frames as they are: an engine may
// send a log without.
func unframe(data []byte) []byte {
	const head = 8
	var text []byte
	for rest := data; len(rest) > 0; {
		if len(rest) < head || rest[0] > 2 || rest[1] != 0 || rest[2] != 0 || rest[3] != 0 {
			if text == nil {
				return data
			}
			return text
		}
		n := min(int64(binary.BigEndian.Uint32(rest[4:head])), int64(len(rest)-head))
		text = append(text, rest[head:head+n]...)
		rest = rest[head+n:]
	}
	return text
}

// maxFile bounds a file that is read from a container: sources of secrets have the same limit.
const maxFile = 64 << 10

// maxLinks bounds how many links are followed to a file.
const maxLinks = 4

// ReadFile reads a file of a container, at most 64 KiB of it. A link is followed within
// the container.
func (c *Client) ReadFile(ctx context.Context, id, file string) (secret.Value, error) {
	for range maxLinks {
		value, link, err := c.readFile(ctx, id, file)
		if err != nil || link == "" {
			return value, err
		}
		if !path.IsAbs(link) {
			link = path.Join(path.Dir(file), link)
		}
		file = link
	}
	return secret.Value{}, &Error{Kind: Refused, Endpoint: c.Endpoint, Message: "it is a link to another link"}
}

// readFile reads one file; for a link, it returns its target as link.
func (c *Client) readFile(ctx context.Context, id, path string) (value secret.Value, link string, err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	answer, err := c.send(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/archive", url.Values{"path": {path}},
		nil)
	if err != nil {
		return value, "", err
	}
	defer answer.Body.Close()
	archive := tar.NewReader(io.LimitReader(answer.Body, maxFile+(8<<10)))
	head, err := archive.Next()
	switch {
	case err != nil:
		return value, "", &Error{Kind: Broken, Endpoint: c.Endpoint, Err: errors.New("its answer is no archive")}
	case head.Typeflag == tar.TypeSymlink:
		return value, head.Linkname, nil
	case head.Typeflag != tar.TypeReg:
		return value, "", &Error{Kind: Refused, Endpoint: c.Endpoint, Message: "it is no regular file"}
	case head.Size > maxFile:
		return value, "", &Error{
			Kind:     Refused,
			Endpoint: c.Endpoint,
			Message:  fmt.Sprintf("it is larger than %d KiB", maxFile>>10),
		}
	}
	data, err := io.ReadAll(archive)
	if err != nil {
		return value, "", c.explainError(ctx, err)
	}
	return secret.NewValue(strings.TrimRight(string(data), "\r\n")), "", nil
}

// Commands are the programs that run in a container, by the paths with which they were started (Docker Engine API,
// "List processes running inside a container").
func (c *Client) Commands(ctx context.Context, id string) ([]string, error) {
	var list struct{ Processes [][]string }
	query := url.Values{"ps_args": {"-o pid,args"}}
	err := c.call(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/top", query, nil, &list)
	var all []string
	for _, one := range list.Processes {
		if len(one) > 1 {
			word, _, _ := strings.Cut(strings.TrimSpace(one[len(one)-1]), " ")
			all = append(all, strings.TrimSuffix(word, ":")) // a server names its helpers so
		}
	}
	return all, err
}

// Gateways are the host's addresses in a network.
func (c *Client) Gateways(ctx context.Context, network string) ([]string, error) {
	var one struct {
		Driver string
		IPAM   struct{ Config []struct{ Gateway string } }
	}
	if err := c.call(ctx, http.MethodGet, "/networks/"+url.PathEscape(network), nil, nil, &one); err != nil {
		return nil, err
	}
	var all []string
	for _, config := range one.IPAM.Config {
		if gateway, _, _ := strings.Cut(config.Gateway, "/"); gateway != "" && !slices.Contains(all, gateway) {
			all = append(all, gateway)
		}
	}
	return all, nil
}

// present reads a missing thing as an answer.
func present(err error) (bool, error) {
	if Gone(err) {
		return false, nil
	}
	return err == nil, err
}
