package demo

import (
	"strconv"
	"time"

	"gentleharbor/standin/engineapi"
	"gentleharbor/standin/mysql"
)

// bridge is the container engine's own address in the containers' network.
const bridge = "172.17.0.1"

// rings is the simulated MariaDB server of a container: it sees connections through a published port come from the
// bridge.
func rings(accounts ...mysql.Account) (*mysql.Server, error) {
	for i := range accounts {
		accounts[i].Password, accounts[i].Method = banderPassword, "mysql_native_password"
	}
	return mysql.Start(mysql.Config{
		Version:   "10.11.6-MariaDB",
		UUID:      "c2FsdG1hcnNoLXJpbmdpbmc=",
		NoNames:   true,
		Seen:      bridge,
		Databases: []string{"ringing"},
		Tables:    []string{"ring", "species"},
		Accounts:  accounts,
	})
}

// publishedPorts are the ports at which a simulated server is published.
func publishedPorts(s *mysql.Server) map[string][]engineapi.Binding {
	return map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(s.Port())}}}
}

// startContainers starts the simulated container engine, with three containers: the
// rings' server, an old one whose account is for loopback alone, and the station's web site.
func (s *stage) startContainers() (err error) {
	if s.ringing, err = s.newRings(); err != nil {
		return err
	}
	s.oldRings, err = mysql.Start(mysql.Config{
		Version: "10.11.6-MariaDB",
		NoNames: true,
		Seen:    bridge,
		Fault:   mysql.NotAllowed,
	})
	if err != nil {
		return err
	}
	s.engine, err = engineapi.Start(engineapi.Config{
		Socket: s.socketOf("engine"),
		Images: []string{"mariadb:10.11"},
		Containers: []*engineapi.Container{
			ringContainer("saltmarsh-ringing", s.ringing), s.oldContainer(),
			{Name: "saltmarsh-web", Image: "saltmarsh/web:4", Exposed: []string{"8080/tcp"},
				Env: []string{"MYSQL_HOST=saltmarsh-ringing", "MYSQL_USER=ringer"}},
		},
		OnStart: s.startRinging,
		OnStop:  s.stopRinging,
	})
	return err
}

func (s *stage) newRings() (*mysql.Server, error) {
	return rings(mysql.Account{User: "ringer", Host: "%", Databases: []string{"ringing"}},
		mysql.Account{User: "registrar", Host: "%", Admin: true})
}

// oldContainer is a container that gharbor made for a profile that does not exist any more.
func (s *stage) oldContainer() *engineapi.Container {
	c := ringContainer("saltmarsh-old-rings", s.oldRings)
	c.Labels = map[string]string{"gentle-harbor.profile": "old-rings", "gentle-harbor.data": c.Mounts[0].Name}
	return c
}

func ringContainer(name string, server *mysql.Server) *engineapi.Container {
	return &engineapi.Container{
		Name:    name,
		Image:   "mariadb:10.11",
		Exposed: []string{"3306/tcp"},
		Ports:   publishedPorts(server),
		Health:  "healthy",
		Env: []string{"MARIADB_USER=ringer", "MARIADB_PASSWORD=" + banderPassword, "MARIADB_DATABASE=ringing",
			"MARIADB_RANDOM_ROOT_PASSWORD=1", "MARIADB_VERSION=1:10.11.6"},
		Mounts: []engineapi.Mount{{Type: "volume", Name: name + "-data", Destination: "/var/lib/mysql"}},
		Log: []string{"[Note] [Entrypoint]: GENERATED ROOT PASSWORD: Wigeon-over-the-weir",
			"[Note] mariadbd: ready for connections.",
			"Version: '10.11.6-MariaDB-1:10.11.6'  socket: '/run/mysqld/mysqld.sock'  port: 3306  mariadb.org binary " +
				"distribution"},
	}
}

// startRinging starts the server of a container, each time at a free port.
func (s *stage) startRinging(c *engineapi.Container) error {
	server, err := s.newRings()
	if err != nil {
		return err
	}
	*s.serverIn(c), c.Ports = server, publishedPorts(server)
	return nil
}

// serverIn is the variable that has a container's server.
func (s *stage) serverIn(c *engineapi.Container) **mysql.Server {
	if c.Name == "saltmarsh-old-rings" {
		return &s.oldRings
	}
	return &s.ringing
}

func (s *stage) stopRinging(c *engineapi.Container) {
	(*s.serverIn(c)).Close()
	c.Log = append(c.Log, "[Note] mariadbd (initiated by: unknown): Normal shutdown", "[Note] mariadbd: Shutdown complete")
}

// ringing finds a server in a container, and follows it.
func ringing(s *stage) {
	s.step("Somebody runs the rings' database in a container. What is there?", 0, "container", "scan")
	s.step("A profile of it: engine, user and database as the container declares them.", 0, "container", "adopt",
		"saltmarsh-ringing", "ringing")
	s.step("Ready, and nothing of it was typed.", 0, "test", "ringing")
	if s.failed == nil {
		s.engine.Change(func(all *[]*engineapi.Container) {
			c := (*all)[0]
			s.ringing.Close()
			s.failed = s.startRinging(c)
			c.ID, c.Started = "", time.Now()
		})
	}
	s.step("The container is made again, and is published at another port.", 0, "container", "scan")
	s.step("The profile follows the container; with -quiet, no output means ready.", 0, "test", "ringing", "-quiet")
	s.step("One evening it is stopped.", 0, "container", "stop", "ringing")
	s.step("The finding has the state and the end of the log, without what looks like a password.", 1, "test", "ringing")
	s.step("Start it, and wait until the profile's test passes.", 0, "container", "start", "ringing")
	s.step("An older container has its account for 127.0.0.1. Which address does its server see?", 0, "container",
		"adopt", "saltmarsh-old-rings", "old-rings")
	s.step("The container engine's own, and the finding says so.", 1, "test", "old-rings")
	s.step("The next season gets its own server, in a container that does not exist yet.", 0,
		"add", "next-season", "-engine", "mariadb", "-container", "saltmarsh-next-season", "-user", "ringer", "-database",
		"ringing")
	s.step("What would be made? Published only on 127.0.0.1, with a new password in the wallet.", 0, "container",
		"make", "next-season", "-image", "mariadb:10.11", "-dry-run")
}
