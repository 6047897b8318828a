package address

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// socket is a Unix socket, or the folder that it is in.
var socket = &Kind{
	Key:       key.Socket,
	OnMachine: true,
	Hosts:     func(Profile) []HostPort { return nil },
	Local:     func(Profile) bool { return true },
	Locate: func(_ context.Context, _ Sources, p Profile) ([]Candidate, *finding.Finding) {
		return locateSocket(p)
	},
	Bind:  bindAsWritten,
	Short: func(_ Profile, shown func(key.Name) string) string { return shown(key.Socket) },
}

// maxSocketPath is the longest path of a socket (unix(7): 108 bytes with the closing zero on Linux, 104 elsewhere).
const maxSocketPath = 103

// locateSocket finds the socket of a profile.
func locateSocket(p Profile) ([]Candidate, *finding.Finding) {
	c := Candidate{Socket: p.Text(key.Socket), ViaHop: p.BehindHops(), Port: p.Port()}
	var named engine.Sockets
	if spec := p.Engine(); spec != nil {
		named = spec.Sockets
	}
	c.setFolderSocket(named)
	if len(c.Socket) > maxSocketPath {
		return nil, finding.New(finding.ProfileIncomplete,
			"the socket's path has %d bytes; a socket's address can have %d", len(c.Socket), maxSocketPath).
			Advise("use a shorter path: gharbor set %s socket=SHORTER-PATH", p.Name())
	}
	return []Candidate{c}, nil
}

// setFolderSocket finds a socket in the folder that a profile names; named are the engine's names for sockets.
func (c *Candidate) setFolderSocket(named engine.Sockets) {
	if named.ByPort() {
		c.portSocket(named)
	} else {
		c.namedSocket(named)
	}
}

// portSocket finds a socket whose name has the port in it, in the folder that a profile names.
func (c *Candidate) portSocket(named engine.Sockets) {
	if !strings.HasPrefix(filepath.Base(c.Socket), named.Prefix) {
		if c.ViaHop { // what it is on the hop's machine is not seen from here
			c.Folder = c.Socket
			c.Socket = path.Join(c.Folder, named.FileFor(strconv.Itoa(c.Port)))
		} else if info, err := os.Stat(c.Socket); err != nil && !strings.Contains(filepath.Base(c.Socket), ".s") ||
			err == nil && info.IsDir() {
			c.Folder = c.Socket
			c.Socket = filepath.Join(c.Folder, named.FileFor(strconv.Itoa(c.Port)))
		}
	}
	if c.Folder == "" {
		c.Folder = filepath.Dir(c.Socket)
		if port, err := strconv.Atoi(named.PortIn(filepath.Base(c.Socket))); err == nil {
			c.Port = port
		}
	}
}

// namedSocket finds a socket of a fixed name in the folder that a profile
// names: the first of the names that packages give it.
func (c *Candidate) namedSocket(named engine.Sockets) {
	if info, err := os.Stat(c.Socket); len(named.Names) == 0 || c.ViaHop || err != nil || !info.IsDir() {
		c.Folder = filepath.Dir(c.Socket)
		return
	}
	c.Folder = c.Socket
	for _, name := range named.Names {
		if _, err := os.Stat(filepath.Join(c.Folder, name)); err == nil {
			c.Socket = filepath.Join(c.Folder, name)
			return
		}
	}
	c.Socket = filepath.Join(c.Folder, named.Names[0])
}
