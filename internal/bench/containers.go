//go:build unix

package main

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/engineapi"
)

// scanned is how many containers the simulated engine has.
const scanned = 200

// containers measures the scan of a simulated engine's containers, and what it adds to a
// test of a real server that the address is a container.
func (b *bench) containers() error {
	server, err := testkit.StartPostgreSQL()
	if err != nil {
		return err
	}
	socket := filepath.Join(b.folder, "engine.sock")
	config := engineapi.Config{Socket: socket}
	for i := range scanned {
		one := &engineapi.Container{
			Name:    fmt.Sprintf("station-%d", i),
			Image:   "postgres:16",
			Exposed: []string{"5432/tcp"},
			Ports:   map[string][]engineapi.Binding{"5432/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(server.Port)}}},
			Env: []string{"POSTGRES_USER=warden", "POSTGRES_DB=sightings", "POSTGRES_PASSWORD=" + testkit.WardenPassword,
				"PG_MAJOR=16", "PATH=/usr/local/sbin:/usr/local/bin", "LANG=en_US.utf8"},
			Mounts: []engineapi.Mount{{Type: "volume", Name: fmt.Sprintf("station-%d", i),
				Destination: "/var/lib/postgresql/data"}},
		}
		config.Containers = append(config.Containers, one)
	}
	engine, err := engineapi.Start(config)
	if err != nil {
		return err
	}
	defer engine.Close()
	b.env = append(b.env, "GHARBOR_ENGINES="+socket)
	form := "[profile.%s]\nengine = \"postgresql\"\n%s\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = " +
		"\"env:WARDEN\"\ntls = \"off\"\n\n"
	if err := b.profiles(fmt.Sprintf(form, "plain", fmt.Sprintf("host = \"127.0.0.1\"\nport = %d", server.Port)) +
		fmt.Sprintf(form, "contained", `container = "station-199"`)); err != nil {
		return err
	}
	if err := b.compare(fmt.Sprintf("container scan, %d / one by one", scanned), 1.0,
		[]string{"gharbor", "container", "scan"}, []string{"asker", socket}); err != nil {
		return err
	}
	var with, without []time.Duration
	for range pairs {
		in, inErr := b.time("gharbor", "test", "contained")
		out, outErr := b.time("gharbor", "test", "plain")
		if err := errors.Join(inErr, outErr); err != nil {
			return err
		}
		with, without = append(with, in), append(without, out)
	}
	a, p := median(with), median(without)
	fmt.Printf("%-34s %8.2f ms  peer %8.2f ms  adds %.2f ms (aim 15 ms)\n", "test by container / by host", ms(a), ms(p),
		ms(a-p))
	return nil
}
