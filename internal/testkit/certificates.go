package testkit

import (
	"time"

	"gentleharbor/standin/authority"
)

// Certificates are the paths of what a real server with TLS is set up with.
type Certificates struct {
	Authority  string // PEM of what signed the server's certificate
	ClientCert string // PEM of a certificate for the user certified
	ClientKey  string
	OtherCert  string // the same name, signed by a stranger
	OtherKey   string
}

// newCertificates makes an authority, the server's certificate (server.pem and
// server.key) and two clients', and writes them below the server's folder.
func newCertificates(write func(name, text string) error, path func(name string) string) (Certificates, error) {
	now := time.Now()
	none := Certificates{}
	ours, err := authority.New()
	if err != nil {
		return none, err
	}
	stranger, err := authority.New()
	if err != nil {
		return none, err
	}
	_, server, serverKey, err := ours.Issue("sightings.saltmarsh.example",
		[]string{"sightings.saltmarsh.example", "localhost"}, now.Add(-time.Hour), now.Add(90*24*time.Hour))
	if err != nil {
		return none, err
	}
	_, client, clientKey, err := ours.Issue("certified", nil, now.Add(-time.Hour), now.Add(90*24*time.Hour))
	if err != nil {
		return none, err
	}
	_, other, otherKey, err := stranger.Issue("certified", nil, now.Add(-time.Hour), now.Add(90*24*time.Hour))
	if err != nil {
		return none, err
	}
	for name, text := range map[string][]byte{"authority.pem": ours.PEM, "server.pem": server, "server.key": serverKey,
		"client.pem": client, "client.key": clientKey, "other.pem": other, "other.key": otherKey} {
		if err := write(name, string(text)); err != nil {
			return none, err
		}
	}
	return Certificates{
		Authority:  path("authority.pem"),
		ClientCert: path("client.pem"),
		ClientKey:  path("client.key"),
		OtherCert:  path("other.pem"),
		OtherKey:   path("other.key"),
	}, nil
}
