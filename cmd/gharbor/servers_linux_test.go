package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// TestAliasHost writes, changes and removes lines of [hosts], and says what the system's own look-up has.
func TestAliasHost(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	p.OK("alias", "host", "db.saltmarsh.invalid", "192.0.2.7").Has("saved: the line of db.saltmarsh.invalid in [hosts] of", "DNS has no address for db.saltmarsh.invalid")
	p.OK("alias", "host", "DB.saltmarsh.invalid.", "192.0.2.8,2001:db8::1")
	p.OK("alias", "host", "other.saltmarsh.invalid", "192.0.2.9", "192.0.2.10")
	if text := p.ReadAliases(); !strings.Contains(text, "\"db.saltmarsh.invalid\" = [\"192.0.2.8\", \"2001:db8::1\"]\n") || strings.Contains(text, "192.0.2.7") || strings.Count(text, "[hosts]") != 1 {
		t.Errorf("the file is\n%s", text)
	}
	p.Aliases("# ours\n\n[alias.a]\naddresses = [\"db.saltmarsh.invalid:1521\"]\nengine = \"oracle\"\n\n[hosts]\n# by hand\n\"x.invalid\" = \"192.0.2.1\" # stays\n")
	p.OK("alias", "host", "db.saltmarsh.invalid", "127.0.0.9")
	p.OK("alias", "resolve", "a").Has("127.0.0.9")
	p.OK("alias", "host", "db.saltmarsh.invalid", "-remove").Has("removed: ")
	if text := p.ReadAliases(); text != "# ours\n\n[alias.a]\naddresses = [\"db.saltmarsh.invalid:1521\"]\nengine = \"oracle\"\n\n[hosts]\n# by hand\n\"x.invalid\" = \"192.0.2.1\" # stays\n" {
		t.Errorf("the file is\n%s", text)
	}
	for line, want := range map[string]string{
		"localhost 192.0.2.1": "this machine's own name", "192.0.2.1 192.0.2.1": "is an address", "a_b!c 192.0.2.1": "expected a host name", "a.example b.example": "expected IP addresses",
		"a.example": "the address is missing", "a.example 192.0.2.1 -remove": "not both", "a.example -remove": "no line for", "a.example 192.0.2.1:5432": "without a port",
	} {
		p.Run(append([]string{"alias", "host"}, strings.Fields(line)...)...).Want(2).Has(want)
	}
}

// TestNearbyStart shows the system's command, asks, runs it, and waits; the command of this test starts nothing.
func TestNearbyStart(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p := testkit.NewProgram(t)
	lines := strings.Fields(p.OK("nearby", "start").Stdout)
	p.Run("nearby", "start", "no-such-service").Want(2).Has("no installed server of that name is stopped")
	if len(lines) < 6 || os.Getuid() != 0 {
		t.Skip("no installed server is stopped here, or this is not root")
	}
	name, words := lines[3], strings.Split(strings.TrimSpace(strings.SplitN(p.OK("nearby", "start").Stdout, "# runs ", 2)[1]), "\n")
	command := strings.Fields(strings.TrimPrefix(words[0], "sudo "))
	folder := t.TempDir()
	p.Write(filepath.Join(folder, command[0]), "#!/bin/sh\necho \"$@\" >"+folder+"/ran\n")
	os.Chmod(filepath.Join(folder, command[0]), 0o755)
	p.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	p.Run("nearby", "start", name).Want(2).Has("no terminal to ask on", "root's rights", strings.Join(command, " "))
	p.Run("nearby", "start", name, "-yes", "-within", "1ms").Want(5).Has("does not answer after 1ms")
	if ran := strings.Fields(p.Read(folder + "/ran")); strings.Join(ran, " ") != strings.Join(command[1:], " ") {
		t.Errorf("run was %q, shown %q", ran, command)
	}
	p.OK("nearby").Has("gharbor nearby start " + name)
}

// TestRealContainerLogs shows a server's log with its marks, and follows it to the container's end.
func TestRealContainerLogs(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	name := named(t, "pg")
	e.Serve(t, name, counts("-p", "127.0.0.1::5432", "-e", "NOTE=1"))
	p.OK("container", "adopt", name, "sightings")
	p.OK("wait", "sightings")
	p.OK("container", "logs", "sightings").Has("ready   ", "ready to accept connections").HasNot(knotPassword)
	if n := strings.Count(p.OK("container", "logs", name, "-lines", "3").Stdout, "\n"); n != 3 {
		t.Errorf("%d lines, not 3", n)
	}
	p.Run("container", "logs", name, "-lines", "0").Want(2).Has("from 1 to 10000")
	ended := named(t, "ended")
	e.Serve(t, ended, counts(), "sh", "-c", "printf '\\033[2Jroot password: "+knotPassword+"\\n'; echo 'FATAL:  the data folder is of another version'; sleep 1; echo later; exit 3")
	p.OK("container", "logs", ended, "-follow").Has("fails   FATAL:", "[cut out]", "later").HasNot(knotPassword, "\x1b")
	if one := scanned(t, p)[ended]; one != nil {
		t.Errorf("a program with a server's variables is taken for one: %v", one)
	}
	p.OK("container", "scan").Has("like a server by variables or image: ", "gharbor container adopt NAME")
}

// TestRealContainerService makes a container of a compose file's service that was never made.
func TestRealContainerService(t *testing.T) {
	t.Parallel()
	e, p := engineProgram(t)
	project := strings.ToLower(strings.ReplaceAll(t.Name(), "/", "-"))
	file := filepath.Join(p.Dir, "compose.yaml")
	if p.Dir == "" {
		file = filepath.Join(filepath.Dir(p.Home), "compose.yaml")
	}
	port := testkit.FreePort(t)
	p.Write(file, fmt.Sprintf("name: %s\nservices:\n  counts:\n    image: %s\n    restart: always\n    environment: {POSTGRES_USER: warden, POSTGRES_DB: sightings, POSTGRES_PASSWORD: %q}\n    ports: [\"127.0.0.1:%d:5432\"]\n    volumes: [\"data:/var/lib/postgresql/data\", \"/usr:/usr:ro\", \"/etc:/etc:ro\"]\n  odd:\n    image: %s\n    command: sleep 60\n    environment: {POSTGRES_PASSWORD: x}\nvolumes: {data: }\n",
		project, testkit.ServerImage, knotPassword, port, testkit.ServerImage))
	t.Cleanup(func() {
		e.Docker(t, "rm", "-f", project+"-counts-1")
		e.Docker(t, "volume", "rm", "-f", project+"_data")
	})
	p.Run("container", "start", project+"/nothing").Want(5).Has("container.unknown")
	p.Run("container", "start", project+"/odd", "-yes").Want(2).Has("gharbor makes none of this service: command", "docker compose")
	p.OK("add", "sightings", "-engine", "postgresql", "-container", project+"/counts", "-user", "warden", "-database", "sightings", "-secret", "container:POSTGRES_PASSWORD")
	p.Run("container", "start", "sightings").Want(2).Has("no terminal to ask on", "-yes", "POSTGRES_PASSWORD").HasNot(knotPassword)
	p.OK("container", "start", "sightings", "-yes").Has("made and started: container "+project+"-counts-1", "left out   restart", "ready").HasNot(knotPassword)
	p.Test("sightings").Ends(t, "session", "ok", "")
	if labels := e.Docker(t, "inspect", "-f", "{{index .Config.Labels \"com.docker.compose.service\"}} {{index .Config.Labels \"com.docker.compose.project\"}}", project+"-counts-1"); strings.TrimSpace(labels) != "counts "+project {
		t.Errorf("its labels are %q", labels)
	}
	p.OK("container", "start", project+"/counts").Has("is running already")
}
