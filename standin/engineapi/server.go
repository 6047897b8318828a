// Package engineapi is a simulated container engine for the demo, and for tests of faults that a real one cannot
// show: an old interface, no permission, slow, huge or broken answers. It answers those calls of the engine's public
// HTTP API that a client of database containers makes, over a Unix socket or loopback TCP. It runs nothing: OnStart
// starts a container's server.
package engineapi

import (
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/defect"
)

// Fault is something that an engine does wrong.
type Fault string

// The faults.
const (
	NoFault     Fault = ""
	Old         Fault = "old"          // speaks versions of the interface of before 1.24
	TooNew      Fault = "too-new"      // speaks only versions that nobody knows yet
	NoVersion   Fault = "no-version"   // does not say which
	Forbidden   Fault = "forbidden"    // 403 to every call
	Slow        Fault = "slow"         // accepts and does not answer
	Trickle     Fault = "trickle"      // answers a byte a second
	Huge        Fault = "huge"         // lists without end
	BrokenJSON  Fault = "broken-json"  // half an answer
	Deep        Fault = "deep"         // JSON of a depth that nobody needs
	NotHTTP     Fault = "not-http"     // another protocol's greeting
	Redirects   Fault = "redirects"    // sends every call elsewhere
	Odd         Fault = "odd"          // right JSON of other types than the interface has
	StartFails  Fault = "start-fails"  // 500 to a start, with control characters in its text
	PortIsTaken Fault = "port-taken"   // 500 to a start: the published address is in use
	PullFails   Fault = "pull-fails"   // a pull that breaks off in its stream
	ListRefused Fault = "list-refused" // 500 to a list
)

// Binding is an address at which a port is published.
type Binding struct{ HostIp, HostPort string }

// Mount is a file or folder that a container gets from outside.
type Mount struct{ Type, Name, Source, Destination string }

// Network is a network that a container is in.
type Network struct{ NetworkID, IPAddress, Gateway string }

// Container is the engine's description of a container. Zero values are those of a new one.
type Container struct {
	ID       string
	Name     string
	Image    string
	Labels   map[string]string
	Env      []string // "NAME=value"
	State    string   // "created", "running", "paused", "restarting", "exited"
	Health   string   // "", "starting", "healthy", "unhealthy"
	Checked  string   // what the last health check printed
	ExitCode int
	Restarts int
	Error    string // of a start that failed
	Started  time.Time
	Exposed  []string             // "3306/tcp"
	Ports    map[string][]Binding // "3306/tcp"; while it runs
	Mode     string               // network mode: "bridge", "host", "none"
	Networks map[string]Network
	Mounts   []Mount
	Log      []string
	TTY      bool
	Files    map[string]string // by path; "-> PATH" is a link

	Cmd         []string
	Healthcheck json.RawMessage
	asked       map[string][]Binding // to be published at, as made
}

// Config is what an engine has and does.
type Config struct {
	Socket     string      // a path; "" for loopback TCP
	TLS        *tls.Config // for TCP
	Name       string      // "" for Engine
	Release    string      // "" for 26.1.5
	APIVersion string      // "" for 1.45
	MinVersion string      // "" for 1.24
	Fault      Fault
	Containers []*Container
	Images     []string      // that are there: "mariadb:11"
	Registry   []string      // that a pull finds
	Pace       time.Duration // between two steps of a pull

	// OnStart is called at the start of a container: it starts the server, and returns the ports of 127.0.0.1 on
	// which that listens. OnStop ends it. Either may be nil.
	OnStart func(c *Container) error
	OnStop  func(c *Container)
}

// Server is a running simulated engine.
type Server struct {
	Config
	http     *http.Server
	listener net.Listener
	mu       sync.Mutex
	volumes  map[string]map[string]string // labels, by name
	ids      int
	calls    []string
}

// Start starts an engine; Close ends it.
func Start(c Config) (*Server, error) {
	set := func(field *string, value string) {
		if *field == "" {
			*field = value
		}
	}
	set(&c.Name, "Engine")
	set(&c.Release, "26.1.5")
	set(&c.APIVersion, "1.45")
	set(&c.MinVersion, "1.24")
	s := &Server{Config: c, volumes: make(map[string]map[string]string)}
	for _, one := range c.Containers {
		s.complete(one)
	}
	network, address := "unix", c.Socket
	if address == "" {
		network, address = "tcp", "127.0.0.1:0"
	}
	listener, err := net.Listen(network, address)
	if err != nil {
		return nil, err
	}
	if network == "unix" {
		os.Chmod(address, 0o600)
	}
	s.listener = listener
	if c.TLS != nil {
		listener = tls.NewListener(listener, c.TLS)
	}
	s.http = &http.Server{Handler: s.handler(), ReadHeaderTimeout: 5 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	if c.Fault == NotHTTP {
		defect.Go(func() { s.speakOther(listener) })
	} else {
		defect.Go(func() { s.http.Serve(listener) })
	}
	return s, nil
}

// speakOther greets as no HTTP server does.
func (s *Server) speakOther(listener net.Listener) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		conn.Write([]byte("220 tide.saltmarsh.example ESMTP\r\n"))
		conn.Close()
	}
}

// Endpoint is where it is asked.
func (s *Server) Endpoint() string {
	if s.Socket != "" {
		return "unix://" + s.Socket
	}
	return "tcp://" + s.listener.Addr().String()
}

// Close ends it.
func (s *Server) Close() {
	s.http.Close()
	s.listener.Close()
	if s.Socket != "" {
		os.Remove(s.Socket)
	}
}

// complete sets what every container has.
func (s *Server) complete(c *Container) {
	s.ids++
	if c.ID == "" {
		c.ID = fmt.Sprintf("%064x", 0x5a17a05b<<8+s.ids)
	}
	if c.State == "" {
		c.State = "running"
	}
	if c.Mode == "" {
		c.Mode = "bridge"
	}
	if c.Networks == nil && c.Mode == "bridge" {
		c.Networks = map[string]Network{"bridge": {NetworkID: "b0", IPAddress: "172.17.0." + strconv.Itoa(s.ids+1),
			Gateway: "172.17.0.1"}}
	}
	if c.Started.IsZero() && c.State != "created" {
		c.Started = time.Now().Add(-3 * time.Hour)
	}
	c.asked = c.Ports
}

// Change changes the engine under its lock: its containers, its fault, and what it does at starts.
func (s *Server) Change(change func(all *[]*Container)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.Containers)
	for _, c := range s.Containers {
		if c.ID == "" {
			s.complete(c)
		}
	}
}

// Calls are the calls so far, as "GET /containers/json".
func (s *Server) Calls() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.calls)
}

// Find returns a copy of the container with a name or id, or nil.
func (s *Server) Find(word string) *Container {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.find(word)
	if c == nil {
		return nil
	}
	now := *c
	return &now
}

// fault is the engine's present fault, which Change may change.
func (s *Server) fault() Fault {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Fault
}

func (s *Server) find(word string) *Container {
	for _, c := range s.Containers {
		if c.Name == word || c.ID == word || len(word) >= 4 && strings.HasPrefix(c.ID, word) {
			return c
		}
	}
	return nil
}

// start makes a container run.
func (s *Server) start(c *Container) error {
	switch {
	case s.Fault == StartFails:
		return errors.New("the runtime \x1b[31mfailed\x1b[0m: exec format error")
	case s.Fault == PortIsTaken:
		return errors.New("driver failed programming external connectivity on endpoint: Bind for 127.0.0.1 failed: port is " +
			"already allocated")
	}
	c.State, c.Error, c.Restarts, c.Started, c.Ports = "running", "", 0, time.Now(), c.asked
	if s.OnStart != nil {
		return s.OnStart(c)
	}
	return nil
}

func (s *Server) stop(c *Container) {
	c.State, c.ExitCode, c.Ports = "exited", 0, nil
	if s.OnStop != nil {
		s.OnStop(c)
	}
}

// Volumes are the names of the volumes.
func (s *Server) Volumes() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.volumes))
}

// PublishedPort is the first requested host port of a container, "" for none.
func (s *Server) PublishedPort(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, bindings := range s.find(name).asked {
		for _, b := range bindings {
			return b.HostPort
		}
	}
	return ""
}

// AddVolume makes a volume that is not gharbor's.
func (s *Server) AddVolume(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.volumes[name] = map[string]string{}
}
