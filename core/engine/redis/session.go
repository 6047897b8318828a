package redis

import (
	"context"
	"fmt"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/engine/redis/resp"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// Session reads the facts in one message, and measures the round trip.
func (c *conversation) Session(ctx context.Context) finding.Result {
	before := time.Now()
	replies, err := c.askAll(ctx, []string{"INFO"}, []string{"TIME"}, []string{"CONFIG", "GET", "save"},
		[]string{"CONFIG", "GET", "databases"}, []string{"ACL", "WHOAMI"}, []string{"ACL", "GETUSER", c.facts.User})
	took := time.Since(before)
	if err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	info, clock, save, databases, whoami, account := replies[0], replies[1], replies[2], replies[3], replies[4], replies[5]
	switch means(info) {
	case meansPasswordWanted, meansLoading, meansProtected, meansFull:
		return finding.FailWith(c.refusedQuestion(info))
	}
	c.info = readInfo(info.String())
	if c.info["redis_mode"] == "sentinel" {
		return finding.FailWith(c.sentinel(ctx))
	}
	if !whoami.IsError() && whoami.Kind == '$' {
		c.facts.User = clean.Line(whoami.String(), 200)
	}
	c.readVersion()
	c.readRole()
	c.readMemory()
	c.readPersistence(fields(save))
	c.readClock(clock, before.Add(took/2))
	if a := readAccount(account); a != nil {
		all := a.all()
		c.facts.Superuser = &all
	}
	c.facts.Rights = engine.Either(c.facts.Superuser, "administrator", "")
	if n := fields(databases)["databases"]; n != "" {
		c.facts.Settings = append(c.facts.Settings, clean.Line(n, 20)+" databases")
	}
	if err := c.facts.MeasureTrips(nil, func() error { _, err := c.ask(ctx, "PING"); return err }); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	return c.judge(info)
}

// readInfo reads the answer to INFO: lines NAME:VALUE, and comments.
func readInfo(text string) map[string]string {
	all := make(map[string]string)
	for line := range strings.Lines(text) {
		name, value, ok := strings.Cut(strings.TrimRight(line, "\r\n"), ":")
		if ok && !strings.HasPrefix(line, "#") {
			all[name] = value
		}
	}
	return all
}

// readVersion reads the server's name and version. Other servers that speak Redis' protocol give the version of Redis
// with which they are compatible, and their own.
func (c *conversation) readVersion() {
	f := &c.facts
	f.Product, f.Version = "Redis", clean.Line(c.info["redis_version"], 40)
	if f.Version == "" {
		f.Version = clean.Line(c.hello["version"], 40)
	}
	own := c.info["server_name"]
	if own == "" {
		own = c.hello["server"]
	}
	if own == "" || strings.EqualFold(own, "redis") {
		for _, name := range []string{"dragonfly", "kvrocks", "garnet", "keydb"} {
			if c.info[name+"_version"] != "" {
				own = name
			}
		}
	}
	if own == "" || strings.EqualFold(own, "redis") {
		return
	}
	f.Product = clean.Line(own, 40)
	if version := c.info[strings.ToLower(own)+"_version"]; version != "" {
		f.Version = clean.Line(version, 40)
	}
}

// readRole reads whether the server is a primary or a replica, and whether it takes writes.
func (c *conversation) readRole() {
	f, info := &c.facts, c.info
	f.ServerID = clean.Line(info["run_id"], 60)
	f.Lineage = f.ServerID
	switch info["role"] {
	case "master":
		f.Role, f.Writable = "primary", yes(true)
	case "slave":
		f.ReplicaOf = clean.Line(net.JoinHostPort(info["master_host"], info["master_port"]), 200)
		f.Role = "replica of " + f.ReplicaOf
		if info["master_link_status"] != "up" {
			f.Role += " (link " + clean.Line(info["master_link_status"], 20) + ")"
		}
		f.Writable = yes(info["slave_read_only"] == "0")
		f.InRecovery = yes(true)
		if !*f.Writable {
			f.ReadOnlyBy = "the server is a replica of " + f.ReplicaOf
		}
	}
	if info["cluster_enabled"] == "1" && f.Role != "" {
		f.Role += " in a cluster, which has a part of the keys"
	}
	if seconds, err := strconv.ParseInt(info["uptime_in_seconds"], 10, 64); err == nil {
		started := time.Now().Add(-time.Duration(seconds) * time.Second).UTC().Truncate(time.Second)
		f.ServerStarted = &started
	}
}

func yes(v bool) *bool { return &v }

// readMemory reads how much memory the data take.
func (c *conversation) readMemory() {
	f := &c.facts
	used, err := strconv.ParseInt(c.info["used_memory"], 10, 64)
	if err != nil {
		return
	}
	f.MemoryUsed = &used
	text := "memory " + clean.Size(float64(used))
	if limit, err := strconv.ParseInt(c.info["maxmemory"], 10, 64); err == nil {
		f.MemoryLimit = &limit
		if limit > 0 {
			text += " of " + clean.Size(float64(limit))
		}
		text += " (" + clean.Line(c.info["maxmemory_policy"], 40) + ")"
	}
	f.Settings = append(f.Settings, text)
}

// readPersistence reads whether data outlive the process. Whether the server makes snapshots is a setting, which not
// every account may read.
func (c *conversation) readPersistence(settings map[string]string) {
	f := &c.facts
	save, known := settings["save"]
	switch {
	case c.info["aof_enabled"] == "1":
		f.Persistent = yes(true)
		f.Settings = append(f.Settings, "log of commands on disk")
	case known && save != "":
		f.Persistent = yes(true)
		f.Settings = append(f.Settings, "snapshots on disk")
	case known:
		f.Persistent = yes(false)
		f.Settings = append(f.Settings, "nothing kept on disk")
	}
}

// readClock compares the server's clock with ours at the middle of the exchange.
func (c *conversation) readClock(reply *resp.Reply, here time.Time) {
	if !reply.IsList() || len(reply.Items) != 2 {
		return
	}
	seconds, err := strconv.ParseInt(reply.Items[0].String(), 10, 64)
	micros, microsErr := strconv.ParseInt(reply.Items[1].String(), 10, 64)
	if err != nil || microsErr != nil || seconds > math.MaxInt32*8 {
		return
	}
	c.facts.ClockDifference = engine.Milliseconds(time.Unix(seconds, micros*1000).Sub(here))
}

// judge returns the result of the session, with a warning where it can't read or write.
func (c *conversation) judge(info *resp.Reply) finding.Result {
	f := &c.facts
	detail := strings.TrimPrefix(strings.Join([]string{f.User, f.Server()}, ", "), ", ")
	name := c.to.Profile
	switch {
	case info.IsError() && means(info) == meansNoRight:
		return finding.WarnWith(finding.New(finding.SessionNoRight,
			"the login worked, but the account may not read the server's facts (INFO)").
			Saw("%s", serverText(info)).
			ByAdmin(c.to.Helping(), "provision grant "+name+" -access read", "ACL SETUSER %s +info", formatArgument(f.User)),
			"%s", detail)
	case info.IsError():
		return finding.FailWith(c.refusedQuestion(info))
	case c.info["role"] == "slave" && c.info["master_link_status"] != "up":
		return finding.WarnWith(finding.New(finding.SessionLinkDown, "the replica's link to its primary is down").
			Saw("its primary is %s, and the link is %s", clean.Quote(f.ReplicaOf), clean.Quote(c.info["master_link_status"])).
			Suggest("gharbor wait %s   # until it is up again", name).
			Advise("on the replica: are masteruser and masterauth right, and is the primary up?"), "%s", detail)
	case means(c.pong) == meansWritesStopped,
		c.info["rdb_last_bgsave_status"] == "err" && f.Persistent != nil && *f.Persistent && c.info["aof_enabled"] != "1":
		found := finding.New(finding.SessionWritesStopped, "the server could not save its data, and may take no writes")
		if c.pong.IsError() {
			found.Saw("%s", serverText(c.pong))
		} else {
			found.Saw("its last snapshot failed (rdb_last_bgsave_status is err)")
		}
		found.Advise("on the server: is there room on the disk, and memory for a fork? The log says why")
		return finding.WarnWith(found, "%s", detail)
	case f.MemoryLimit != nil && *f.MemoryLimit > 0 && f.MemoryUsed != nil && *f.MemoryUsed >= *f.MemoryLimit &&
		c.info["maxmemory_policy"] == "noeviction":
		return finding.WarnWith(finding.New(finding.SessionMemoryFull, "the server's memory is full: it refuses to write").
			Saw("it uses %s of %s, and drops no keys (noeviction)", clean.Size(float64(*f.MemoryUsed)),
				clean.Size(float64(*f.MemoryLimit))).
			Suggest("gharbor browse %s databases   # how many keys there are, and how many of them expire", name).
			Advise("on the server: raise maxmemory, or choose another maxmemory-policy"), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// explainLoss returns the finding for a session that ended.
func (c *conversation) explainLoss(err error) *finding.Finding {
	if alert := probe.ClientCertificateAlert(err); alert != "" {
		return c.to.CertificateRefused(&c.facts, alert)
	}
	return c.to.SessionLost(err, probe.LastError(err))
}

// refusedQuestion is for a stage's own command that the server refused.
func (c *conversation) refusedQuestion(r *resp.Reply) *finding.Finding {
	switch means(r) {
	case meansNoRight:
		return c.to.NoRight(serverText(r))
	case meansLinkDown:
		return finding.New(finding.SessionLinkDown,
			"the replica's link to its primary is down, and it answers nothing until "+
				"it is up").Saw("%s", serverText(r)).Suggest("gharbor wait %s", c.to.Profile)
	}
	if found := c.refusedFirst(r); found != nil {
		return found
	}
	return c.to.SessionLost(nil, serverText(r))
}

// Bounds of the search for keys.
const (
	scanStep = 1000
	scanMost = 2000 // steps: two million keys
)

// Missing returns the patterns that no key fits.
func (c *conversation) Missing(ctx context.Context, what key.Name, names []string) (missing []string, err error) {
	if what != key.ExpectKeys {
		return names, nil
	}
	for _, pattern := range names {
		is, err := c.hasKey(ctx, pattern)
		if err != nil {
			return nil, err
		}
		if !is {
			missing = append(missing, pattern)
		}
	}
	return missing, nil
}

// hasKey reports whether a key fits a pattern.
func (c *conversation) hasKey(ctx context.Context, pattern string) (bool, error) {
	if !strings.ContainsAny(pattern, `*?[\`) {
		reply, err := c.ask(ctx, "EXISTS", pattern)
		if err == nil && reply.IsError() {
			err = fmt.Errorf("EXISTS: %s", clean.Line(reply.String(), 200))
		}
		return err == nil && reply.String() != "0", err
	}
	cursor := "0"
	for range scanMost {
		reply, err := c.ask(ctx, "SCAN", cursor, "MATCH", pattern, "COUNT", strconv.Itoa(scanStep))
		switch {
		case err != nil:
			return false, err
		case reply.IsError():
			return false, fmt.Errorf("SCAN: %s", clean.Line(reply.String(), 200))
		case len(reply.Items) != 2:
			return false, resp.ErrMalformed
		case len(reply.Items[1].Items) > 0:
			return true, nil
		}
		if cursor = reply.Items[0].String(); cursor == "0" {
			return false, nil
		}
	}
	return false, fmt.Errorf("no key of the first %d fits %s, and the database has more", scanStep*scanMost,
		clean.Quote(pattern))
}

// account is a user, from ACL GETUSER.
type account struct {
	on        bool
	flags     []string
	passwords []string // SHA-256 in hexadecimal digits
	commands  string
	keys      string
	channels  string
}

// readAccount reads the answer to ACL GETUSER, nil where there is none.
func readAccount(r *resp.Reply) *account {
	if r == nil || !r.IsList() {
		return nil
	}
	a := &account{}
	for i := 0; i+1 < len(r.Items); i += 2 {
		value := r.Items[i+1]
		var items []string
		for _, item := range value.Items {
			items = append(items, item.String())
		}
		switch text := value.String(); r.Items[i].String() {
		case "flags":
			a.flags = items
		case "passwords":
			a.passwords = items
		case "commands":
			a.commands = text
		case "keys":
			a.keys = strings.TrimSpace(text + " " + strings.Join(items, " "))
		case "channels":
			a.channels = strings.TrimSpace(text + " " + strings.Join(items, " "))
		}
	}
	a.on = slices.Contains(a.flags, "on")
	if slices.Contains(a.flags, "nopass") {
		a.passwords = append(a.passwords, "nopass")
	}
	return a
}

// all reports whether the account may do everything.
func (a *account) all() bool { return a.commands == "+@all" && (a.keys == "~*" || a.keys == "*") }
