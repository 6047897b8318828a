package compose

import (
	"bytes"
	"path"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentleharbor/core/container/making"
)

// The parts of a compose file that is written, in the order of its keys.
type (
	writtenFile struct {
		Name     string                    `yaml:"name"`
		Services map[string]writtenService `yaml:"services"`
		Volumes  map[string]struct{}       `yaml:"volumes"`
		Secrets  map[string]writtenSecret  `yaml:"secrets,omitempty"`
	}
	writtenService struct {
		Command     []string          `yaml:"command,omitempty"`
		Environment map[string]string `yaml:"environment,omitempty"`
		HealthCheck writtenCheck      `yaml:"healthcheck"`
		Image       string            `yaml:"image"`
		Ports       []writtenPort     `yaml:"ports"`
		Secrets     []writtenUse      `yaml:"secrets,omitempty"`
		Volumes     []writtenVolume   `yaml:"volumes"`
	}
	writtenCheck struct {
		Test        []string `yaml:"test"`
		Interval    string   `yaml:"interval"`
		Retries     int      `yaml:"retries"`
		StartPeriod string   `yaml:"start_period"`
	}
	writtenPort struct {
		HostIP    string `yaml:"host_ip"`
		Target    int    `yaml:"target"`
		Published string `yaml:"published"`
		Protocol  string `yaml:"protocol"`
	}
	writtenUse struct {
		Source string `yaml:"source"`
		Target string `yaml:"target"`
	}
	writtenVolume struct {
		Type   string `yaml:"type"`
		Source string `yaml:"source"`
		Target string `yaml:"target"`
	}
	writtenSecret struct {
		File string `yaml:"file"`
	}
)

// Write writes the compose file of one service, by the spec of its container. It has no passwords: each is a secret
// that is read from a file; files has the names.
func Write(project, service string, p *making.Plan) (text []byte, files []string, err error) {
	s := writtenService{
		Image:       p.Image,
		Environment: make(map[string]string),
		HealthCheck: writtenCheck{Interval: "5s", Retries: 5, StartPeriod: "2m0s"},
		Ports: []writtenPort{{
			HostIP:    "127.0.0.1",
			Target:    p.Inside,
			Published: strconv.Itoa(p.Port),
			Protocol:  "tcp",
		}},
		Volumes: []writtenVolume{{Type: "volume", Source: p.Volume, Target: p.Folder}},
	}
	for _, v := range p.Variables {
		name, value, _ := strings.Cut(v, "=")
		s.Environment[name] = escapeDollars(value)
	}
	for _, word := range p.Engine.Image.Recipe.Command {
		s.Command = append(s.Command, escapeDollars(word))
	}
	for _, word := range p.Check {
		s.HealthCheck.Test = append(s.HealthCheck.Test, escapeDollars(word))
	}
	secrets := make(map[string]writtenSecret)
	for _, one := range p.Secrets {
		name := path.Base(one.File)
		s.Secrets = append(s.Secrets, writtenUse{Source: name, Target: name})
		secrets[name] = writtenSecret{File: "./" + name}
		files = append(files, name)
	}
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	err = encoder.Encode(writtenFile{
		Name:     project,
		Services: map[string]writtenService{service: s},
		Volumes:  map[string]struct{}{p.Volume: {}},
		Secrets:  secrets,
	})
	return out.Bytes(), files, err
}

// escapeDollars returns a value in which each $ is just that.
func escapeDollars(value string) string { return strings.ReplaceAll(value, "$", "$$") }
