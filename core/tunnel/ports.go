package tunnel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"os"
	"path/filepath"

	"gentleharbor/core/atomicfile"
)

// Ports remembers which local port a profile's tunnel had, so that it gets the same one the next time, if that is
// free.
type Ports struct{ Path string }

// New ports are below those that systems use for outgoing connections (32768 on Linux, 49152 elsewhere), and above
// those of most servers.
const (
	lowestPort = 21_000
	manyPorts  = 9_000
)

type portsFile struct {
	Format int            `json:"format"` // 1
	Ports  map[string]int `json:"ports"`
}

// maxPorts bounds the file: some 40 bytes a profile.
const maxPorts = 1 << 20

func (p Ports) load() portsFile {
	f := portsFile{}
	if data, err := atomicfile.Read(p.Path, maxPorts); err == nil {
		json.Unmarshal(data, &f)
	}
	if f.Format != 1 || f.Ports == nil {
		return portsFile{Format: 1, Ports: make(map[string]int)}
	}
	return f
}

// Listen listens on the profile's port of 127.0.0.1. Where another process has that port, it listens on another one
// for this time, and usual is the profile's; else usual is 0. It remembers a new profile's port.
func (p Ports) Listen(ctx context.Context, profile string) (l net.Listener, usual int, err error) {
	known := p.load().Ports
	if port := known[profile]; port != 0 {
		if l, err := net.Listen("tcp", loopback(port)); err == nil {
			return l, 0, nil
		}
		usual = port
	}
	h := fnv.New32a()
	h.Write([]byte(profile))
	taken := make(map[int]bool)
	for _, port := range known {
		taken[port] = true
	}
	for i := range manyPorts {
		port := lowestPort + (int(h.Sum32()%manyPorts)+i)%manyPorts
		if taken[port] {
			continue
		}
		if l, err = net.Listen("tcp", loopback(port)); err == nil {
			if usual == 0 {
				err = p.remember(ctx, profile, port)
			}
			return l, usual, err
		}
	}
	l, err = net.Listen("tcp", "127.0.0.1:0")
	return l, usual, err
}

func loopback(port int) string { return fmt.Sprintf("127.0.0.1:%d", port) }

func (p Ports) remember(ctx context.Context, profile string, port int) error {
	if err := os.MkdirAll(filepath.Dir(p.Path), 0o700); err != nil {
		return err
	}
	unlock, err := atomicfile.Lock(ctx, p.Path)
	if err != nil {
		return err
	}
	defer unlock()
	f := p.load()
	f.Ports[profile] = port
	data, err := json.MarshalIndent(f, "", " ")
	if err != nil {
		return err
	}
	return atomicfile.Writer{}.Write(p.Path, append(data, '\n'))
}

// Free is the first port, from a given one, on which nothing listens.
func Free(host string, from int) (int, error) {
	for port := from; port <= 65535; port++ {
		if l, err := net.Listen("tcp", net.JoinHostPort(host, fmt.Sprint(port))); err == nil {
			l.Close()
			return port, nil
		}
	}
	return 0, errors.New("there is none")
}
