package postgresql

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
)

// cluster is what an administrator's statements change: the roles, the databases and the rights. All sessions of a
// server share it.
type cluster struct {
	mu        sync.Mutex
	roles     map[string]Role
	databases []string
	owners    map[string]string   // of databases
	empty     map[string]bool     // databases that were made here
	granted   map[string][]string // "ROLE DATABASE KIND": rights on all that is there
	promised  map[string][]string // "ROLE DATABASE": "MAKER CODE RIGHT"
}

func newCluster(c *Config) *cluster {
	all := &cluster{
		roles:     maps.Clone(c.Roles),
		databases: slices.Clone(c.Databases),
		owners:    make(map[string]string),
		empty:     make(map[string]bool),
		granted:   make(map[string][]string),
		promised:  make(map[string][]string),
	}
	if all.roles == nil {
		all.roles = make(map[string]Role)
	}
	super := "postgres"
	for name, role := range all.roles {
		if role.Superuser {
			super = name
		}
	}
	for _, d := range all.databases {
		all.owners[d] = super
	}
	return all
}

// Allow makes a role, or another of its name.
func (s *Server) Allow(name string, role Role) {
	s.cluster.mu.Lock()
	defer s.cluster.mu.Unlock()
	s.cluster.roles[name] = role
}

// Forbid takes a role away. Its sessions go on.
func (s *Server) Forbid(name string) {
	s.cluster.mu.Lock()
	defer s.cluster.mu.Unlock()
	delete(s.cluster.roles, name)
}

// role is a role by its name.
func (c *cluster) role(name string) (Role, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	role, ok := c.roles[name]
	return role, ok
}

// has reports whether there is a database.
func (c *cluster) has(database string) bool { return slices.Contains(c.names(), database) }

// names are the databases.
func (c *cluster) names() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.databases)
}

// all are the roles.
func (c *cluster) all() map[string]Role {
	c.mu.Lock()
	defer c.mu.Unlock()
	return maps.Clone(c.roles)
}

// words are those of a statement: names and texts without quotes, no commas and no semicolon.
func words(statement string) (all []string) {
	var quote rune
	word := ""
	end := func() {
		if word != "" {
			all = append(all, word)
		}
		word = ""
	}
	for _, r := range strings.TrimSuffix(statement, ";") {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word += string(r)
		case r == '\'' || r == '"':
			quote = r
		case r == ' ' || r == ',':
			end()
		default:
			word += string(r)
		}
	}
	end()
	return all
}

// codes are the letters of kinds of things (PostgreSQL documentation, "pg_default_acl").
var codes = map[string]string{"TABLES": "r", "SEQUENCES": "S", "FUNCTIONS": "f", "SCHEMAS": "n"}

// run runs an administrator's statement in a database; tag is "" for another statement.
func (c *cluster) run(statement, database string) (tag string, err error) {
	w := words(statement)
	if len(w) < 3 {
		return "", nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	switch two := w[0] + " " + w[1]; two {
	case "SET search_path":
		return "SET", nil
	case "CREATE ROLE", "ALTER ROLE":
		return two, c.setRole(w[2], w[3:], w[0] == "CREATE")
	case "CREATE DATABASE":
		if slices.Contains(c.databases, w[2]) {
			return "", fmt.Errorf("database %q already exists", w[2])
		}
		c.databases = append(c.databases, w[2])
		c.owners[w[2]], c.empty[w[2]] = w[len(w)-1], true
		return two, nil
	case "ALTER DATABASE":
		c.owners[w[2]] = w[len(w)-1]
		return two, nil
	case "DROP DATABASE":
		c.databases = slices.DeleteFunc(c.databases, func(d string) bool { return d == w[2] })
		return two, nil
	case "DROP ROLE":
		delete(c.roles, w[2])
		return two, nil
	case "DROP OWNED", "REASSIGN OWNED":
		delete(c.promised, w[3]+" "+database)
		return two, nil
	case "ALTER DEFAULT":
		c.setDefaultRights(w, database)
		return "ALTER DEFAULT PRIVILEGES", nil
	}
	if w[0] == "GRANT" || w[0] == "REVOKE" {
		c.grant(w, database)
		return w[0], nil
	}
	return "", nil
}

// setRole makes or changes a role.
func (c *cluster) setRole(name string, options []string, create bool) error {
	role, known := c.roles[name]
	switch {
	case create && known:
		return fmt.Errorf("role %q already exists", name)
	case !create && !known:
		return fmt.Errorf("role %q does not exist", name)
	}
	for i, o := range options {
		switch o {
		case "LOGIN":
			role.NoLogin = false
		case "PASSWORD":
			role.Password, role.Verifier = "", options[i+1]
		case "UNTIL":
			role.Expired = options[i+1] != "infinity"
		}
	}
	c.roles[name] = role
	return nil
}

// grant gives or takes rights on all things of a kind.
func (c *cluster) grant(w []string, database string) {
	all := slices.Index(w, "ALL")
	on := slices.Index(w, "ON")
	if on < 0 || on+2 >= len(w) || w[on+1] != "ALL" || all < 0 {
		return
	}
	key := w[len(w)-1] + " " + database + " " + w[on+2]
	c.granted[key] = nil
	if w[0] == "GRANT" {
		c.granted[key] = w[1:on]
	}
}

// setDefaultRights gives or takes rights on what roles will make.
func (c *cluster) setDefaultRights(w []string, database string) {
	verb := slices.IndexFunc(w, func(s string) bool { return s == "GRANT" || s == "REVOKE" })
	on := slices.Index(w, "ON")
	if verb < 0 || on < 0 || on+1 >= len(w) {
		return
	}
	key, code := w[len(w)-1]+" "+database, codes[w[on+1]]
	for _, maker := range w[5:verb] {
		c.promised[key] = slices.DeleteFunc(c.promised[key], func(p string) bool {
			return strings.HasPrefix(p, maker+" "+code+" ")
		})
		if w[verb] == "GRANT" {
			for _, right := range w[verb+1 : on] {
				c.promised[key] = append(c.promised[key], maker+" "+code+" "+right)
			}
		}
	}
}
