package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

const fieldstation = `name: fieldstation
services:
  counts:
    image: postgres:${PG_VERSION:-16}
    environment:
      POSTGRES_USER: ${COUNTS_USER}
      POSTGRES_DB: sightings
      POSTGRES_PASSWORD: ${COUNTS_PASSWORD:-knot-and-dunlin}
  ringing:
    image: mariadb:11
    env_file: ringing.env
    environment:
      MARIADB_PASSWORD_FILE: /run/secrets/ringer
    secrets: [ringer]
    profiles: [rings]
  web:
    image: saltmarsh/web
    environment: [POSTGRES_HOST=counts, POSTGRES_USER=warden, POSTGRES_PASSWORD=x]
secrets:
  ringer:
    file: ./ringer.txt
`

// station writes the compose file and what it names into a folder.
func station(p *testkit.Program, folder string) {
	for name, text := range map[string]string{"compose.yaml": fieldstation, "ringing.env": "MARIADB_USER=ringer\nMARIADB_DATABASE=ringing\n", "ringer.txt": "redshank-5\n", ".env": "COUNTS_USER=warden\n"} {
		p.Write(filepath.Join(folder, name), text)
	}
	p.Dir = folder
}

// TestComposeImport takes services in as profiles that lead to their containers.
func TestComposeImport(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	folder := filepath.Join(filepath.Dir(p.Home), "station")
	station(p, folder)
	p.OK("import", "compose.yaml", "-dry-run").Has("counts  new", "warden", "left out", "ringing (rings)", "nothing was added").HasNot("web", "knot-and-dunlin")
	p.OK("import", "compose", "-compose-profile", "rings").Has("saved: profile counts", "saved: profile ringing").HasNot("without a value")
	for _, line := range []string{`container = { project = "fieldstation", service = "counts" }`, `user      = "warden"`, `database  = "ringing"`, `secret    = "container:MARIADB_PASSWORD_FILE"`} {
		if !strings.Contains(p.ReadProfiles(), line) {
			t.Errorf("no %s in\n%s", line, p.ReadProfiles())
		}
	}
	p.OK("set", "counts", "user=visitor")
	p.OK("import", "compose.yaml").Has("left alone")
	p.OK("import", "compose.yaml", "-replace", "-compose-project", "other").Has("other-counts  new", "container other/counts")

	// Another file changes what the first says; the machine's variables come before .env's.
	p.Write(filepath.Join(folder, "over.yml"), "services:\n  counts:\n    environment:\n      POSTGRES_DB: ringing\n    expose: ['5444']\n")
	p.Setenv("COUNTS_USER", "registrar")
	p.OK("import", "compose.yaml", "over.yml", "-name", "over").Has("registrar", "database  ringing", "port      5444")
	p.Write(filepath.Join(folder, "other.env"), "COUNTS_USER=bander\nCOMPOSE_PROJECT_NAME=third\n")
	p.OK("import", "compose.yaml", "-env-file", "other.env", "-dry-run", "-name", "z").Has("container third/counts")
	p.Setenv("COUNTS_USER", "")

	open := walletFor(p)
	p.Run(append([]string{"import", "compose.yaml", "-name", "none", "-into", "wallet"}, open...)...).Want(5).Has("container.no-engine") // to which it would be bound
	h := newHarbour(t, nil)
	p.Setenv("GHARBOR_ENGINES", h.engine.Socket)
	p.OK(append([]string{"import", "compose.yaml", "-compose-profile", "*", "-compose-project", "kept", "-into", "wallet"}, open...)...).Want(0).Has("secret    wallet:kept-ringing")
	out := p.OK(append([]string{"wallet", "list"}, open...)...).Stdout
	if !strings.Contains(out, "kept-ringing") || !strings.Contains(out, "container:kept/counts") {
		t.Errorf("the wallet has\n%s", out)
	}
	testkit.NoSecretIn(t, p.Home, nil, "redshank-5", "knot-and-dunlin")
	p.Run("import", "dotenv", ".env", "-compose-profile", "x").Want(2).Has("for compose files")
	p.Run("import", "service", "a", "b").Want(2).Has("takes one file")
	p.Dir = filepath.Dir(p.Home)
	p.Run("import", "compose").Want(3).Has("there is no compose.yaml")
	p.Run("import", "gone.yaml").Want(3).Has("gone.yaml", "cannot be read")
}

// TestComposeRepository: in a repository no variable of this machine is used, and no file
// outside read, before somebody has vouched for the file.
func TestComposeRepository(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	folder := filepath.Join(filepath.Dir(p.Home), "station")
	station(p, folder)
	if err := os.Mkdir(filepath.Join(folder, ".git"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.Setenv("COUNTS_USER", "registrar")
	p.Run("import", "compose.yaml").Want(2).Has("is in a repository", "-yes")
	p.Setenv("COUNTS_PASSWORD", "mine")
	p.OK("import", "compose.yaml", "-yes", "-dry-run").Has("user      warden", "not used before you approve it", "COUNTS_PASSWORD").HasNot("registrar")
	out := p.Run("vouch", "compose.yaml").Want(2).Has("variable of this machine   COUNTS_PASSWORD", "service counts", "'${COUNTS_USER}'", "sha256:").HasNot("mine").Stdout
	hash := out[strings.LastIndex(out, " ")+1 : len(out)-1]
	p.Run("vouch", "compose.yaml", "-expect", strings.Repeat("0", 64)).Want(1)
	p.OK("vouch", "compose.yaml", "-expect", hash).Has("approved: compose")
	p.OK("import", "compose.yaml", "-dry-run").Has("user      registrar")
	p.OK("vouch", "-list", "compose.yaml").Has("approved")
	p.OK("import", "compose.yaml", "-dry-run", "-compose-profile", "rings", "-compose-project", "other").Has("user      registrar", "container other/ringing").HasNot("has changed")
	p.Write(filepath.Join(folder, "compose.override.yaml"), "services: {}\n")
	p.OK("import", "compose", "-yes", "-dry-run").Has("has changed", "compose.override.yaml").HasNot("registrar") // another file was not vouched for
	if err := os.Remove(filepath.Join(folder, "compose.override.yaml")); err != nil {
		t.Fatal(err)
	}
	p.Write(filepath.Join(folder, ".env"), "COUNTS_USER=bander\n")
	p.OK("import", "compose.yaml", "-yes", "-dry-run").Has("has changed since", "user      bander").HasNot("registrar")
	p.OK("vouch", "-withdraw", "compose.yaml").Has("withdrawn: compose")

	outside := filepath.Join(filepath.Dir(p.Home), "outside.env")
	p.Write(outside, "MARIADB_USER=ringer\n")
	for name, text := range map[string]string{
		"env file":          "services:\n  a:\n    image: mariadb\n    env_file: ../outside.env\n",
		"env file by link":  "services:\n  a:\n    image: mariadb\n    env_file: link.env\n",
		"include":           "include: [../outside.yaml]\nservices:\n  a:\n    image: mariadb\n",
		"label file":        "services:\n  a:\n    image: mariadb\n    label_file: [../outside.env]\n",
		"include's file":    "include: [{path: inside.yaml, env_file: ../outside.env}]\nservices:\n  a:\n    image: mariadb\n",
		"by a variable":     "services:\n  a:\n    image: mariadb\n    label_file: ${COUNTS_USER}\n",
		"behind an include": "include: [labels.yaml]\nservices:\n  a:\n    image: mariadb\n",
		"extends":           "services:\n  a:\n    image: mariadb\n    extends: {file: ../outside.yaml, service: b}\n",
	} {
		if name == "env file by link" {
			if err := os.Symlink(outside, filepath.Join(folder, "link.env")); err != nil {
				t.Fatal(err)
			}
		}
		p.Write(filepath.Join(filepath.Dir(p.Home), "outside.yaml"), "services:\n  b:\n    image: mariadb\n")
		p.Write(filepath.Join(folder, "compose.yaml"), text)
		p.Write(filepath.Join(folder, "bander"), "a=b\n") // which the variable names now
		p.Write(filepath.Join(folder, "inside.yaml"), "services:\n  b:\n    image: mariadb\n")
		p.Write(filepath.Join(folder, "labels.yaml"), "services:\n  b:\n    image: mariadb\n    label_file: ../outside.env\n")
		p.Run("import", "compose.yaml", "-yes", "-dry-run").Want(3).Has("outside of the repository", "gharbor vouch")
		if strings.HasPrefix(name, "env file") { // it is named, and not read before the yes
			p.Run("vouch", "compose.yaml").Want(2).Has("outside of the repository, not hashed: "+outside).HasNot("ringer", "MARIADB_USER")
			continue
		}
		p.Run("vouch", "compose.yaml").Want(3).Has("it uses ", "outside of the repository")
	}
	p.Write(filepath.Join(folder, "compose.yaml"), "include: [https://saltmarsh.example/compose.yaml]\nservices: {}\n")
	p.Run("import", "compose.yaml", "-yes").Want(3).Has("is not fetched")
	p.Dir = filepath.Dir(p.Home)
	p.Write(filepath.Join(p.Dir, "compose.yaml"), fieldstation)
	p.Run("vouch", "compose.yaml").Want(2).Has("is in no repository")
	p.Run("vouch", "none.yaml").Want(3)
}

// TestComposeMistakes: a mistake is named by file, line and key, and no value is repeated.
func TestComposeMistakes(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	p.Dir = filepath.Dir(p.Home)
	const secret = "pa55-of-the-warden"
	for text, want := range map[string]string{
		"services:\n  counts:\n    image: postgres\n    enviroment: {POSTGRES_PASSWORD: " + secret + "}\n": `compose.yaml:4: unknown key "services.counts.enviroment"; did you mean "environment"?`,
		"services:\n  counts:\n    ports: " + secret + "\n":                                                "compose.yaml:3: services.counts.ports must be a",
		"services:\n  counts: [" + secret + "\n":                                                           "compose.yaml:",
		"services:\n  counts:\n    image: postgres\n    command: psql ${" + secret + "\n":                  "compose.yaml:4: invalid interpolation format for services.counts.command",
		"services:\n  counts:\n    image: postgres\n    environment: {A: \"${B:?" + secret + "}\"}\n":      "compose.yaml",
		"services:\n  counts:\n    depends_on: [" + secret + "]\n    image: postgres\n":                    "compose.yaml",
		"- " + secret + "\n": "compose.yaml",
		"servics: {}\n":      `compose.yaml:1: unknown key "servics"; did you mean "services"?`,
		"":                   "compose.yaml",
	} {
		p.Write(filepath.Join(p.Dir, "compose.yaml"), text)
		p.Run("import", "compose.yaml").Want(3).Has(want).HasNot(secret)
	}
	for _, text := range []string{"tides:\n  small: {model: x}\nservices:\n  counts:\n    image: postgres\n", "services:\n  counts:\n    image: postgres\n  other:\n    moon: {type: x}\n"} { // of a later specification
		p.Write(filepath.Join(p.Dir, "compose.yaml"), text)
		p.OK("import", "compose.yaml", "-dry-run").Has("unknown", "counts  new")
	}
	p.Write(filepath.Join(p.Dir, "compose.yaml"), "services:\n  web:\n    image: saltmarsh/web\n")
	p.Run("import", "compose.yaml").Want(1).Has("no connection was found")
}

// TestComposeExport writes a file that can be taken in again.
func TestComposeExport(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	p.Dir = filepath.Dir(p.Home)
	p.OK("add", "ringing", "-engine", "mariadb", "-host", "127.0.0.1", "-port", "3309", "-user", "ringer", "-database", "ringing", "-secret", "ask")
	p.OK("export", "ringing", "-as", "compose", "-image", "mariadb:11.4").Has("image: mariadb:11.4", "host_ip: 127.0.0.1", `published: "3309"`, "MARIADB_PASSWORD_FILE: /run/secrets/ringing-password", "file: ./ringing-password", "write the password into the file ringing-password")
	p.OK("export", "ringing", "-as", "compose", "-out", "compose.yaml").Has("official")
	p.Run("export", "ringing", "-as", "compose", "-out", "compose.yaml").Want(2).Has("exists already")
	p.OK("import", "compose.yaml", "-name", "again").Has("container ringing/ringing", "user      ringer", "database  ringing")
	p.Run("export", "ringing", "-as", "compose", "-with-secret").Want(2).Has("no place for a password")
	p.Run("export", "ringing", "-as", "url", "-image", "mariadb").Want(2).Has("-as compose")
	p.OK("add", "notes", "-engine", "mongodb", "-host", "127.0.0.1", "-user", "scribe")
	p.Run("export", "notes", "-as", "compose").Want(2).Has("can be written for")

	h := newHarbour(t, nil) // the image and the port are those of the container that there is
	h.Profiles("format = 1\n" + byContainer)
	h.OK("export", "ringing", "-as", "compose").Has("image: mariadb:11\n", "published: ").HasNot("official")
}
