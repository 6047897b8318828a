package api

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"time"

	"gentleharbor/core/secret"
)

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

// Spec is a container to make, in the interface's form.
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

// HostConfig is what a container gets from its host.
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

// Image is what a container gets from its image.
type Image struct {
	Config struct {
		User    string // "" is root
		Volumes map[string]struct{}
	}
}

// Image describes an image; ok is false where it is not on the engine's host.
func (c *Client) Image(ctx context.Context, name string) (image Image, ok bool, err error) {
	ok, err = present(c.call(ctx, http.MethodGet, "/images/"+name+"/json", nil, nil, &image))
	return image, ok, err
}

// File is a file to be put into a container.
type File struct {
	Name    string // in the folder
	Content secret.Value
	UID     int // its owner there
}

// WriteFiles writes files into a folder of a container, with mode 0600.
func (c *Client) WriteFiles(ctx context.Context, id, folder string, files []File) error {
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, f := range files {
		text := f.Content.Disclose()
		head := tar.Header{
			Typeflag: tar.TypeReg,
			Name:     f.Name,
			Mode:     0o600,
			Uid:      f.UID,
			Size:     int64(len(text)),
			ModTime:  time.Now(),
		}
		if err := errors.Join(w.WriteHeader(&head), writeText(w, text)); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, doing)
	defer cancel()
	answer, err := c.sendBytes(ctx, http.MethodPut, "/containers/"+url.PathEscape(id)+"/archive",
		url.Values{"path": {folder}}, "application/x-tar", &archive)
	if err != nil {
		return err
	}
	return answer.Body.Close()
}

func writeText(w io.Writer, text string) error {
	_, err := io.WriteString(w, text)
	return err
}

// HasVolume reports whether a volume of that name exists, and returns its labels.
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

// Pull fetches an image. It calls told with the bytes that have come and the bytes in all, as far as the engine knows
// both.
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
			return c.explainError(ctx, err)
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
