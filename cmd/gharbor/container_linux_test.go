package main

import (
	"testing"

	"gentleharbor/internal/testkit"
)

// engineProgram is a program that asks the real container engine alone.
func engineProgram(t *testing.T) (*testkit.ContainerEngine, *testkit.Program) {
	t.Helper()
	e := testkit.Containers(t)
	p := testkit.NewProgram(t)
	p.Prefix = e.Inside()
	p.Setenv("GHARBOR_ENGINES", e.Socket)
	return e, p
}

func TestContainerTry(t *testing.T) {
	e, p := engineProgram(t)
	e.Serve(t, "saltmarsh-ringing", []string{"-p", "127.0.0.1::3306", "-e", "MARIADB_USER=ringer", "-e", "MARIADB_PASSWORD=knot-and-dunlin", "-e", "MARIADB_DATABASE=ringing"}, "mariadb")
	e.Serve(t, "saltmarsh-sightings", []string{"-p", "127.0.0.1::5432", "-e", "POSTGRES_USER=warden", "-e", "POSTGRES_PASSWORD=knot-and-dunlin", "-e", "POSTGRES_DB=sightings"}, "postgresql")
	for _, args := range [][]string{{"container", "scan"}, {"container", "adopt", "saltmarsh-ringing", "ringing"}, {"test", "ringing"}, {"wait", "ringing"}, {"test", "ringing"}, {"container", "adopt", "saltmarsh-sightings", "-test"},
		{"container", "scan"}, {"container", "stop", "ringing"}, {"test", "ringing"}, {"container", "start", "ringing"}, {"show", "ringing"}} {
		r := p.Run(args...)
		t.Logf("%v: %d\n%s%s", args, r.Code, r.Stdout, r.Stderr)
	}
}
