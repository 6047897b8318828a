package redis

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// carryOut carries out one command.
func (c *client) carryOut(words []string) {
	command, args := strings.ToUpper(words[0]), words[1:]
	for name, at := range c.expires {
		if time.Now().After(at) {
			c.remove(name)
		}
	}
	if c.Fault == FewRights && slices.Contains([]string{"INFO", "ACL", "CONFIG", "SELECT", "TIME"}, command) {
		c.refuse(fmt.Sprintf("NOPERM this user has no permissions to run the '%s' command", strings.ToLower(command)))
		return
	}
	if c.about(command, args) {
		return
	}
	if len(args) == 0 {
		c.refuse(fmt.Sprintf("ERR unknown command '%s', with args beginning with: ", words[0]))
		return
	}
	key := args[0]
	switch {
	case c.Fault == Moved && c.MovedTo != "" && !slices.Contains([]string{"SCAN", "EXISTS"}, command):
		c.refuse("MOVED 3999 " + c.MovedTo)
	case c.Fault == MemoryFull && slices.Contains([]string{"SET", "HSET", "RPUSH"}, command):
		c.refuse("OOM command not allowed when used memory > 'maxmemory'.")
	case c.Fault == LinkDown && slices.Contains([]string{"SET", "HSET", "RPUSH"}, command):
		c.refuse("READONLY You can't write against a read only replica.")
	case !c.read1(command, key, args) && !c.write1(command, key, args):
		c.refuse(fmt.Sprintf("ERR unknown command '%s', with args beginning with: '%s' ", words[0], key))
	}
}

// about answers what is asked about the server.
func (c *client) about(command string, args []string) bool {
	sub := ""
	if len(args) > 0 {
		sub = strings.ToUpper(args[0])
	}
	switch command {
	case "PING":
		c.status("PONG")
	case "TIME":
		now := time.Now()
		c.list([]string{strconv.FormatInt(now.Unix(), 10), strconv.Itoa(now.Nanosecond() / 1000)})
	case "INFO":
		c.text(c.info())
	case "SELECT":
		if n, err := strconv.Atoi(sub); err != nil || n < 0 || n > 15 {
			c.refuse("ERR DB index is out of range")
		} else {
			c.status("OK")
		}
	case "DBSIZE":
		c.number(len(c.names()))
	case "SCAN":
		pattern := "*"
		if i := slices.Index(args, "MATCH"); i >= 0 && i+1 < len(args) {
			pattern = args[i+1]
		}
		c.out.WriteString("*2\r\n")
		c.text("0")
		c.list(slices.DeleteFunc(c.names(), func(name string) bool {
			fits, err := path.Match(pattern, name)
			return err != nil || !fits
		}))
	case "CONFIG":
		settings := map[string]string{"databases": "16", "save": map[bool]string{true: "3600 1"}[c.Saves], "aclfile": ""}
		if value, known := settings[strings.Join(args[1:], "")]; sub == "GET" && known {
			c.pairs(args[1], value)
		} else {
			c.pairs("databases", "16", "requirepass", c.Password, "save", settings["save"])
		}
	case "ACL":
		c.acl(sub, args)
	case "SENTINEL":
		c.out.WriteString("*1\r\n")
		c.pairs("name", "counts", "ip", "10.20.0.7", "port", "6379")
	case "CLIENT":
		if sub == "UNBLOCK" {
			c.number(c.unblock())
			return true
		}
		const client = "id=%d addr=127.0.0.1:50123 name= age=4 idle=0 flags=N db=0 cmd=client|list user=%s\n"
		c.text(fmt.Sprintf(client, c.id, c.user))
	case "SLOWLOG":
		c.out.WriteString("*1\r\n*4\r\n")
		c.number(1)
		c.number(1795000000)
		c.number(12500)
		c.list([]string{"KEYS", "station:*"})
	default:
		return false
	}
	return true
}

// info is the answer to INFO.
func (c *client) info() string {
	mode, role := "standalone", "role:master\r\n"
	memory, limit, failed := 1_300_000, 0, "ok"
	switch c.Fault {
	case Sentinel:
		mode = "sentinel"
	case Moved:
		mode, role = "cluster", role+"cluster_enabled:1\r\n"
	case LinkDown:
		role = "role:slave\r\nmaster_host:10.20.0.7\r\nmaster_port:6379\r\nmaster_link_status:down\r\nslave_read_only:1\r\n"
	case MemoryFull:
		memory, limit = 2<<20, 1<<20
	case Unsaved:
		failed = "err"
	}
	name := ""
	if c.Name != "" {
		name = "server_name:" + c.Name + "\r\n" + c.Name + "_version:8.1.0\r\n"
	}
	return fmt.Sprintf("# Server\r\nredis_version:%s\r\n%sredis_mode:%s\r\n"+
		"run_id:3aa979d098a3b140c95b4b2c8c6e96691a8d237b\r\nuptime_in_seconds:7200\r\n"+
		"# Memory\r\nused_memory:%d\r\nmaxmemory:%d\r\nmaxmemory_policy:noeviction\r\n"+
		"# Persistence\r\naof_enabled:0\r\nrdb_last_bgsave_status:%s\r\n# Replication\r\n%s"+
		"# Keyspace\r\ndb0:keys=%d,expires=%d\r\n",
		c.Version, name, mode, memory, limit, failed, role, len(c.names()), len(c.expires))
}

// acl answers what is asked about users.
func (c *client) acl(sub string, args []string) {
	switch {
	case c.Fault == Old:
		c.refuse("ERR unknown command 'ACL', with args beginning with: '" + sub + "' ")
	case sub == "WHOAMI":
		c.text(c.user)
	case sub == "USERS":
		names := []string{"default"}
		for name := range c.Users {
			names = append(names, name)
		}
		slices.Sort(names)
		c.list(names)
	case sub == "GETUSER" && len(args) > 1:
		password, known := c.Users[args[1]]
		if args[1] == "default" {
			password, known = c.Password, true
		}
		if !known {
			c.nothing()
			return
		}
		flags, passwords := []string{"on"}, []string{hashOf(password)}
		if slices.Contains(c.Off, args[1]) {
			flags = []string{"off"}
		}
		if password == "" {
			flags, passwords = append(flags, "nopass"), nil
		}
		fmt.Fprintf(c.out, "%s", map[bool]string{true: "%5\r\n", false: "*10\r\n"}[c.in3])
		c.text("flags")
		c.list(flags)
		c.text("passwords")
		c.list(passwords)
		for _, pair := range [][2]string{{"commands", "+@all"}, {"keys", "~*"}, {"channels", "&*"}} {
			c.text(pair[0])
			c.text(pair[1])
		}
	case sub == "SETUSER" && len(args) > 1:
		c.status("OK")
	default:
		c.refuse("ERR unknown subcommand '" + sub + "'. Try ACL HELP.")
	}
}

// names are those of all keys, sorted.
func (s *Server) names() []string {
	var all []string
	for name := range s.texts {
		all = append(all, name)
	}
	for name := range s.hashes {
		all = append(all, name)
	}
	for name := range s.lists {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

func (s *Server) remove(name string) bool {
	is := slices.Contains(s.names(), name)
	delete(s.texts, name)
	delete(s.hashes, name)
	delete(s.lists, name)
	delete(s.expires, name)
	return is
}

// read1 answers what is asked about a key.
func (c *client) read1(command, key string, args []string) bool {
	_, isText := c.texts[key]
	switch command {
	case "GET":
		if !isText {
			c.nothing()
		} else {
			c.text(c.texts[key])
		}
	case "EXISTS":
		n := 0
		for _, name := range args {
			if slices.Contains(c.names(), name) {
				n++
			}
		}
		c.number(n)
	case "KEYS":
		c.list(slices.DeleteFunc(c.names(), func(name string) bool {
			fits, err := path.Match(key, name)
			return err != nil || !fits
		}))
	case "TYPE":
		kind := "none"
		switch {
		case isText:
			kind = "string"
		case c.hashes[key] != nil:
			kind = "hash"
		case c.lists[key] != nil:
			kind = "list"
		}
		c.status(kind)
	case "TTL", "PTTL":
		at, some := c.expires[key]
		left := time.Until(at)
		switch {
		case !some:
			c.number(-1)
		case command == "TTL":
			c.number(int(left.Seconds()))
		default:
			c.number(int(left.Milliseconds()))
		}
	case "MEMORY":
		c.number(56 + len(strings.Join(args, "")))
	case "STRLEN":
		c.number(len(c.texts[key]))
	case "HLEN":
		c.number(len(c.hashes[key]))
	case "LLEN":
		c.number(len(c.lists[key]))
	case "HGETALL":
		var all []string
		for name, value := range c.hashes[key] {
			all = append(all, name, value)
		}
		c.pairs(sortPairs(all)...)
	case "LRANGE":
		c.list(c.lists[key])
	default:
		return false
	}
	return true
}

// sortPairs returns pairs by their names.
func sortPairs(pairs []string) []string {
	values, names := make(map[string]string), []string{}
	for i := 0; i+1 < len(pairs); i += 2 {
		names, values[pairs[i]] = append(names, pairs[i]), pairs[i+1]
	}
	slices.Sort(names)
	var all []string
	for _, name := range names {
		all = append(all, name, values[name])
	}
	return all
}

// write1 changes a key.
func (c *client) write1(command, key string, args []string) bool {
	switch {
	case command == "SET" && len(args) > 1:
		c.remove(key)
		c.texts[key] = args[1]
		if len(args) == 4 && strings.EqualFold(args[2], "EX") {
			seconds, _ := strconv.Atoi(args[3])
			c.expires[key] = time.Now().Add(time.Duration(seconds) * time.Second)
		}
		c.status("OK")
	case command == "INCR":
		n, err := strconv.Atoi("0" + c.texts[key])
		if err != nil {
			c.refuse("ERR value is not an integer or out of range")
			return true
		}
		c.texts[key] = strconv.Itoa(n + 1)
		c.number(n + 1)
	case command == "HSET" && len(args) > 2:
		if c.hashes[key] == nil {
			c.hashes[key] = make(map[string]string)
		}
		for i := 1; i+1 < len(args); i += 2 {
			c.hashes[key][args[i]] = args[i+1]
		}
		c.number(len(args) / 2)
	case command == "RPUSH" && len(args) > 1:
		c.lists[key] = append(c.lists[key], args[1:]...)
		c.number(len(c.lists[key]))
	case command == "DEL":
		n := 0
		for _, name := range args {
			if c.remove(name) {
				n++
			}
		}
		c.number(n)
	default:
		return false
	}
	return true
}
