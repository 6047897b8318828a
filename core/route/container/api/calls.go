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
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/secret"
)

// Port is a port of a container and where it is published.
type Port struct {
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
	Ports  []Port
	Labels map[string]string
}

// Name is the container's own name, without the slash before it.
func (s Summary) Name() string {
	for _, name := range s.Names { // links to it have a second slash
		if name = strings.TrimPrefix(name, "/"); !strings.Contains(name, "/") {
			return name
		}
	}
	return s.ID[:min(len(s.ID), 12)]
}

// Binding is an address of the engine's host at which a port is published.
type Binding struct{ HostIp, HostPort string }

// Mount is a part of a container's files that is not its own.
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

// Container is a container as the engine describes it.
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

// Environment is what a container's environment declares. Any of its values may be
// a secret, so each is kept as one.
type Environment map[string]secret.Value

// UnmarshalJSON reads the list of NAME=VALUE that the interface has.
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
	one.Name = strings.TrimPrefix(one.Name, "/")
	return &one, nil
}

// Logs are a container's last lines, of both its streams.
func (c *Client) Logs(ctx context.Context, one *Container, lines int) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	answer, err := c.send(ctx, http.MethodGet, "/containers/"+url.PathEscape(one.ID)+"/logs", url.Values{"stdout": {"1"}, "stderr": {"1"}, "tail": {strconv.Itoa(lines)}}, nil)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, maxLog))
	if err != nil && len(data) == 0 {
		return nil, c.failed(ctx, err)
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

// unframe takes the two streams of a log apart from their frames (Docker Engine API,
// "Stream format": one byte of stream, three of nothing, four of length). Bytes that
// are no frames are given as they are: an engine may send them so.
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

// maxFile bounds a file of a container that is read: the sources of secrets have no
// larger ones.
const maxFile = 64 << 10

// ReadFile reads a file of a container, at most 64 KiB of it.
func (c *Client) ReadFile(ctx context.Context, id, path string) (secret.Value, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	answer, err := c.send(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/archive", url.Values{"path": {path}}, nil)
	if err != nil {
		return secret.Value{}, err
	}
	defer answer.Body.Close()
	archive := tar.NewReader(io.LimitReader(answer.Body, maxFile+(8<<10)))
	head, err := archive.Next()
	switch {
	case err != nil:
		return secret.Value{}, &Error{Kind: Broken, Endpoint: c.Endpoint, Err: errors.New("its answer is no archive")}
	case head.Typeflag != tar.TypeReg:
		return secret.Value{}, &Error{Kind: Refused, Endpoint: c.Endpoint, Message: "it is no regular file"}
	case head.Size > maxFile:
		return secret.Value{}, &Error{Kind: Refused, Endpoint: c.Endpoint, Message: fmt.Sprintf("it is larger than %d KiB", maxFile>>10)}
	}
	data, err := io.ReadAll(archive)
	if err != nil {
		return secret.Value{}, c.failed(ctx, err)
	}
	return secret.NewValue(strings.TrimRight(string(data), "\r\n")), nil
}

// Start starts a container, Stop ends it, Unpause lets one that is paused go on.
func (c *Client) Start(ctx context.Context, id string) error { return c.do(ctx, id, "start") }

// Stop asks a container to end, and kills it after the engine's own time.
func (c *Client) Stop(ctx context.Context, id string) error { return c.do(ctx, id, "stop") }

// Unpause lets a paused container go on.
func (c *Client) Unpause(ctx context.Context, id string) error { return c.do(ctx, id, "unpause") }

func (c *Client) do(ctx context.Context, id, verb string) error {
	return c.call(ctx, http.MethodPost, "/containers/"+url.PathEscape(id)+"/"+verb, nil, nil, nil)
}

// Remove removes a container that does not run. Its volumes stay.
func (c *Client) Remove(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodDelete, "/containers/"+url.PathEscape(id), nil, nil, nil)
}

// Spec is a container to be made, in the interface's own form.
type Spec struct {
	Image        string
	Env          []string            `json:",omitempty"`
	Cmd          []string            `json:",omitempty"`
	Labels       map[string]string   `json:",omitempty"`
	ExposedPorts map[string]struct{} `json:",omitempty"`
	Healthcheck  *Healthcheck        `json:",omitempty"`
	HostConfig   HostConfig
}

// Healthcheck is a command that says whether a container is well. Times are in
// nanoseconds.
type Healthcheck struct {
	Test                           []string
	Interval, Timeout, StartPeriod int64 `json:",omitempty"`
	Retries                        int   `json:",omitempty"`
}

// HostConfig is what a container takes from its host.
type HostConfig struct {
	PortBindings map[string][]Binding `json:",omitempty"`
	Mounts       []SpecMount          `json:",omitempty"`
}

// SpecMount is a volume, or a file of the host.
type SpecMount struct {
	Type, Source, Target string
	ReadOnly             bool `json:",omitempty"`
}

// Create makes a container, and returns its id.
func (c *Client) Create(ctx context.Context, name string, spec Spec) (string, error) {
	var made struct{ ID string }
	err := c.call(ctx, http.MethodPost, "/containers/create", url.Values{"name": {name}}, spec, &made)
	return made.ID, err
}

// HasImage reports whether an image is on the engine's host.
func (c *Client) HasImage(ctx context.Context, image string) (bool, error) {
	err := c.call(ctx, http.MethodGet, "/images/"+image+"/json", nil, nil, nil)
	return present(err)
}

// HasVolume reports whether there is a volume of that name, and its labels.
func (c *Client) HasVolume(ctx context.Context, name string) (labels map[string]string, ok bool, err error) {
	var volume struct{ Labels map[string]string }
	ok, err = present(c.call(ctx, http.MethodGet, "/volumes/"+url.PathEscape(name), nil, nil, &volume))
	return volume.Labels, ok, err
}

// CreateVolume makes a named volume; RemoveVolume removes one with its data.
func (c *Client) CreateVolume(ctx context.Context, name string, labels map[string]string) error {
	return c.call(ctx, http.MethodPost, "/volumes/create", nil, map[string]any{"Name": name, "Labels": labels}, nil)
}

// RemoveVolume removes a named volume with its data.
func (c *Client) RemoveVolume(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/volumes/"+url.PathEscape(name), nil, nil, nil)
}

// Gateways are the addresses of the host on the side of a network.
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
	var answered *Error
	if errors.As(err, &answered) && answered.Status == http.StatusNotFound {
		return false, nil
	}
	return err == nil, err
}

// Pull fetches an image. told is given the bytes that have come and those that will,
// as far as both are known.
func (c *Client) Pull(ctx context.Context, image, tag string, told func(have, want int64)) error {
	answer, err := c.send(ctx, http.MethodPost, "/images/create", url.Values{"fromImage": {image}, "tag": {tag}}, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	const most = 64 << 20 // of progress: some 100 bytes for each step of each layer
	type step struct {
		ID             string
		Error          string
		ProgressDetail struct{ Current, Total int64 }
	}
	layers := make(map[string]step)
	lines := json.NewDecoder(io.LimitReader(answer.Body, most))
	for {
		var one step
		switch err := lines.Decode(&one); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return c.failed(ctx, err)
		case one.Error != "":
			return &Error{Kind: Refused, Endpoint: c.Endpoint, Status: answer.StatusCode, Message: one.Error}
		}
		if one.ProgressDetail.Total <= 0 {
			continue
		}
		layers[one.ID] = one
		var have, want int64
		for _, layer := range layers {
			have, want = have+layer.ProgressDetail.Current, want+layer.ProgressDetail.Total
		}
		told(have, want)
	}
}
