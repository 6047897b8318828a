package engineapi

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// versioned matches the interface's version in a path.
var versioned = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^/v1\.[0-9]+`) })

// handler answers the calls, after faults.
func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	for pattern, answer := range map[string]func(http.ResponseWriter, *http.Request){
		"GET /version":                 s.version,
		"GET /containers/json":         s.list,
		"GET /containers/{id}/json":    s.inspect,
		"GET /containers/{id}/logs":    s.logs,
		"GET /containers/{id}/archive": s.readFile,
		"PUT /containers/{id}/archive": s.writeFile,
		"POST /containers/{id}/{verb}": s.act,
		"POST /containers/create":      s.create,
		"DELETE /containers/{id}":      s.remove,
		"GET /images/{name...}":        s.image,
		"POST /images/create":          s.pull,
		"GET /networks/{id}":           s.network,
		"GET /volumes/{name}":          s.volume,
		"POST /volumes/create":         s.createVolume,
		"DELETE /volumes/{name}":       s.removeVolume,
	} {
		mux.HandleFunc(pattern, answer)
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.Path = versioned().ReplaceAllString(r.URL.Path, "")
		s.mu.Lock()
		s.calls = append(s.calls, r.Method+" "+r.URL.Path)
		s.mu.Unlock()
		if !s.misbehave(w, r) {
			mux.ServeHTTP(w, r)
		}
	})
}

// misbehave answers with the engine's fault, where it has one for this call.
func (s *Server) misbehave(w http.ResponseWriter, r *http.Request) bool {
	fault, listing := s.fault(), r.URL.Path == "/containers/json"
	switch {
	case fault == Slow:
		<-r.Context().Done()
	case fault == Trickle:
		for range 120 {
			io.WriteString(w, " ")
			w.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return true
			case <-time.After(time.Second):
			}
		}
	case fault == Forbidden:
		refuse(w, http.StatusForbidden, "authorization denied by plugin")
	case fault == Redirects:
		http.Redirect(w, r, "http://192.0.2.1/", http.StatusFound)
	case fault == ListRefused && listing:
		refuse(w, http.StatusInternalServerError, "database is locked\x1b]0;owned\x07")
	case fault == Huge && listing:
		io.WriteString(w, "[")
		one := `{"Id":"` + strings.Repeat("f", 64) + `","Names":["/` + strings.Repeat("n", 900) + `"]},`
		line := []byte(strings.Repeat(one, 1000))
		for r.Context().Err() == nil {
			if _, err := w.Write(line); err != nil {
				break
			}
		}
	case fault == BrokenJSON && listing:
		io.WriteString(w, `[{"Id":"5a17","Names":["/saltm`)
	case fault == Deep && listing:
		io.WriteString(w, strings.Repeat("[", 200_000))
	case fault == Odd && listing:
		io.WriteString(w, `{"Id":7,"Names":"ringing","Ports":"3306"}`)
	default:
		return false
	}
	return true
}

func answer(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(value)
}

func refuse(w http.ResponseWriter, status int, message string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]string{"message": message})
}

func (s *Server) version(w http.ResponseWriter, _ *http.Request) {
	high, low := s.APIVersion, s.MinVersion
	switch s.fault() {
	case Old:
		high, low = "1.18", "1.12"
	case TooNew:
		high, low = "1.99", "1.90"
	case NoVersion:
		high, low = "", ""
	}
	answer(w, map[string]any{
		"Version":       s.Release,
		"ApiVersion":    high,
		"MinAPIVersion": low,
		"Components":    []map[string]string{{"Name": s.Name, "Version": s.Release}},
	})
}

// lockContainer returns the container of a call, and holds the engine's lock until done.
func (s *Server) lockContainer(w http.ResponseWriter, r *http.Request) (c *Container, done func()) {
	s.mu.Lock()
	if c = s.find(r.PathValue("id")); c == nil {
		refuse(w, http.StatusNotFound, "No such container: "+r.PathValue("id"))
	}
	return c, s.mu.Unlock
}

func (s *Server) list(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var filters struct{ Label []string }
	if text := r.URL.Query().Get("filters"); text != "" {
		if json.Unmarshal([]byte(text), &filters) != nil {
			refuse(w, http.StatusBadRequest, "invalid filter")
			return
		}
	}
	all := []map[string]any{}
	for _, c := range s.Containers {
		if slices.ContainsFunc(filters.Label,
			func(l string) bool { name, value, _ := strings.Cut(l, "="); return c.Labels[name] != value }) {
			continue
		}
		if r.URL.Query().Get("all") == "" && c.State != "running" {
			continue
		}
		ports := []map[string]any{}
		for _, key := range c.Exposed {
			private, kind, _ := strings.Cut(key, "/")
			number, _ := strconv.Atoi(private)
			if len(c.Ports[key]) == 0 {
				ports = append(ports, map[string]any{"PrivatePort": number, "Type": kind})
			}
		}
		for key, bindings := range c.Ports {
			private, kind, _ := strings.Cut(key, "/")
			number, _ := strconv.Atoi(private)
			for _, b := range bindings {
				public, _ := strconv.Atoi(b.HostPort)
				ports = append(ports, map[string]any{"IP": b.HostIp, "PrivatePort": number, "PublicPort": public, "Type": kind})
			}
		}
		all = append(all, map[string]any{
			"Id":     c.ID,
			"Names":  []string{"/" + c.Name},
			"Image":  c.Image,
			"State":  c.State,
			"Status": c.State,
			"Labels": c.Labels,
			"Ports":  ports,
		})
	}
	answer(w, all)
}

func (s *Server) inspect(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	if c == nil {
		return
	}
	state := map[string]any{
		"Status":    c.State,
		"Running":   c.State == "running" || c.State == "paused",
		"Paused":    c.State == "paused",
		"ExitCode":  c.ExitCode,
		"Error":     c.Error,
		"StartedAt": c.Started.UTC().Format(time.RFC3339Nano),
	}
	if c.Health != "" {
		state["Health"] = map[string]any{"Status": c.Health, "Log": []map[string]any{{"ExitCode": 1, "Output": c.Checked}}}
	}
	exposed := map[string]any{}
	for _, key := range c.Exposed {
		exposed[key] = struct{}{}
	}
	ports := map[string]any{}
	for key := range exposed {
		ports[key] = nil
	}
	for key, bindings := range c.Ports {
		ports[key] = bindings
	}
	if c.State != "running" && c.State != "paused" {
		ports = map[string]any{}
	}
	answer(w, map[string]any{
		"Id": c.ID, "Name": "/" + c.Name, "RestartCount": c.Restarts, "State": state, "Mounts": c.Mounts,
		"Config": map[string]any{
			"Image":        c.Image,
			"Env":          c.Env,
			"ExposedPorts": exposed,
			"Labels":       c.Labels,
			"Tty":          c.TTY,
			"Cmd":          c.Cmd,
			"Healthcheck":  c.Healthcheck,
		},
		"HostConfig":      map[string]any{"NetworkMode": c.Mode, "PortBindings": c.asked},
		"NetworkSettings": map[string]any{"Ports": ports, "Networks": c.Networks},
	})
}

// logs gives the last lines, in frames of both streams in turn (Docker Engine API,
// "Stream format").
func (s *Server) logs(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	if c == nil {
		return
	}
	lines := c.Log
	if n, err := strconv.Atoi(r.URL.Query().Get("tail")); err == nil && n < len(lines) {
		lines = lines[len(lines)-n:]
	}
	for i, line := range lines {
		text := line + "\n"
		if !c.TTY {
			head := [8]byte{byte(1 + i%2)}
			binary.BigEndian.PutUint32(head[4:], uint32(len(text)))
			w.Write(head[:])
		}
		io.WriteString(w, text)
	}
}

func (s *Server) readFile(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	if c == nil {
		return
	}
	name := r.URL.Query().Get("path")
	text, ok := c.Files[name]
	if !ok {
		refuse(w, http.StatusNotFound, "Could not find the file "+name+" in container "+c.Name)
		return
	}
	archive := tar.NewWriter(w)
	if link, ok := strings.CutPrefix(text, "-> "); ok {
		archive.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: path.Base(name), Linkname: link, Mode: 0o777})
		archive.Close()
		return
	}
	archive.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: path.Base(name), Mode: 0o600, Size: int64(len(text))})
	io.WriteString(archive, text)
	archive.Close()
}

func (s *Server) writeFile(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	if c == nil {
		return
	}
	archive := tar.NewReader(r.Body)
	for {
		head, err := archive.Next()
		if err != nil {
			break
		}
		data, err := io.ReadAll(archive)
		if err != nil {
			refuse(w, http.StatusBadRequest, "the archive is broken")
			return
		}
		if c.Files == nil {
			c.Files = make(map[string]string)
		}
		c.Files[path.Join(r.URL.Query().Get("path"), head.Name)] = string(data)
	}
	w.WriteHeader(http.StatusOK)
}

func (s *Server) act(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	if c == nil {
		return
	}
	switch r.PathValue("verb") {
	case "start":
		if c.State == "running" {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		if err := s.start(c); err != nil {
			c.State, c.Error = "created", err.Error()
			refuse(w, http.StatusInternalServerError, err.Error())
			return
		}
	case "stop":
		if c.State == "exited" || c.State == "created" {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		s.stop(c)
	case "unpause":
		c.State = "running"
	default:
		refuse(w, http.StatusNotFound, "page not found")
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// create makes a container as it was described.
func (s *Server) create(w http.ResponseWriter, r *http.Request) {
	var spec struct {
		Image, User  string
		Env, Cmd     []string
		Labels       map[string]string
		ExposedPorts map[string]struct{}
		Healthcheck  json.RawMessage
		HostConfig   struct {
			PortBindings map[string][]Binding
			Mounts       []struct{ Type, Source, Target string }
		}
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&spec); err != nil {
		refuse(w, http.StatusBadRequest, "invalid JSON")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	name := r.URL.Query().Get("name")
	switch {
	case s.find(name) != nil:
		refuse(w, http.StatusConflict,
			fmt.Sprintf("Conflict. The container name \"/%s\" is already in use by container %q.", name, s.find(name).ID))
		return
	case !s.hasImage(spec.Image):
		refuse(w, http.StatusNotFound, "No such image: "+spec.Image)
		return
	}
	c := &Container{
		Name:        name,
		Image:       spec.Image,
		Labels:      spec.Labels,
		Env:         spec.Env,
		Cmd:         spec.Cmd,
		State:       "created",
		Healthcheck: spec.Healthcheck,
		Ports:       spec.HostConfig.PortBindings,
	}
	for key := range spec.ExposedPorts {
		c.Exposed = append(c.Exposed, key)
	}
	for _, m := range spec.HostConfig.Mounts {
		c.Mounts = append(c.Mounts, Mount{Type: m.Type, Name: m.Source, Source: m.Source, Destination: m.Target})
		if m.Type == "volume" && s.volumes[m.Source] == nil {
			s.volumes[m.Source] = map[string]string{}
		}
	}
	s.complete(c)
	c.Ports = nil
	s.Containers = append(s.Containers, c)
	w.WriteHeader(http.StatusCreated)
	answer(w, map[string]any{"Id": c.ID, "Warnings": []string{}})
}

func (s *Server) remove(w http.ResponseWriter, r *http.Request) {
	c, done := s.lockContainer(w, r)
	defer done()
	switch {
	case c == nil:
	case c.State == "running":
		refuse(w, http.StatusConflict,
			"You cannot remove a running container "+c.ID+". Stop the container before attempting removal or force remove")
	default:
		s.Containers = slices.DeleteFunc(s.Containers, func(o *Container) bool { return o == c })
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Server) hasImage(image string) bool {
	return slices.Contains(s.Images, image) || slices.Contains(s.Images, image+":latest")
}

func (s *Server) image(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := strings.TrimSuffix(r.PathValue("name"), "/json")
	if !s.hasImage(name) {
		refuse(w, http.StatusNotFound, "No such image: "+name)
		return
	}
	answer(w, map[string]any{
		"Id":       "sha256:" + strings.Repeat("5a", 32),
		"RepoTags": []string{name},
		"Config":   map[string]any{"User": "", "Volumes": map[string]any{}},
	})
}

// pull streams the steps of a pull as JSON values.
func (s *Server) pull(w http.ResponseWriter, r *http.Request) {
	name := r.URL.Query().Get("fromImage") + ":" + r.URL.Query().Get("tag")
	if !slices.Contains(s.Registry, name) {
		refuse(w, http.StatusNotFound,
			"pull access denied for "+name+", repository does not exist or may require authorization")
		return
	}
	steps := json.NewEncoder(w)
	steps.Encode(map[string]any{"status": "Pulling from " + name, "id": "latest"})
	fault := s.fault()
	const layers, parts, size = 3, 4, 9 << 20
	for part := 1; part <= parts; part++ {
		for layer := range layers {
			if fault == PullFails && part == 2 {
				steps.Encode(map[string]any{"error": "unexpected EOF from registry"})
				return
			}
			steps.Encode(map[string]any{
				"status":         "Downloading",
				"id":             fmt.Sprintf("layer%d", layer),
				"progressDetail": map[string]any{"current": size * part / parts, "total": size},
			})
			if f, ok := w.(http.Flusher); ok {
				f.Flush()
			}
			time.Sleep(s.Pace)
		}
	}
	steps.Encode(map[string]any{"status": "Status: Downloaded newer image for " + name})
	s.mu.Lock()
	s.Images = append(s.Images, name)
	s.mu.Unlock()
}

func (s *Server) network(w http.ResponseWriter, r *http.Request) {
	answer(w, map[string]any{
		"Driver": "bridge",
		"IPAM":   map[string]any{"Config": []map[string]string{{"Gateway": "172.17.0.1"}}},
	})
}

func (s *Server) volume(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	labels, ok := s.volumes[r.PathValue("name")]
	if !ok {
		refuse(w, http.StatusNotFound, "get "+r.PathValue("name")+": no such volume")
		return
	}
	answer(w, map[string]any{"Name": r.PathValue("name"), "Labels": labels})
}

func (s *Server) createVolume(w http.ResponseWriter, r *http.Request) {
	var spec struct {
		Name   string
		Labels map[string]string
	}
	data, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if json.NewDecoder(bytes.NewReader(data)).Decode(&spec) != nil || spec.Name == "" {
		refuse(w, http.StatusBadRequest, "invalid volume")
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if spec.Labels == nil {
		spec.Labels = map[string]string{}
	}
	s.volumes[spec.Name] = spec.Labels
	w.WriteHeader(http.StatusCreated)
	answer(w, map[string]any{"Name": spec.Name, "Labels": spec.Labels})
}

func (s *Server) removeVolume(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.volumes[r.PathValue("name")]; !ok {
		refuse(w, http.StatusNotFound, "no such volume")
		return
	}
	delete(s.volumes, r.PathValue("name"))
	w.WriteHeader(http.StatusNoContent)
}
