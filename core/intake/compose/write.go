package compose

import (
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/compose-spec/compose-go/v2/types"

	"gentleharbor/core/route/container/making"
)

// Write writes the compose file of one service, as a container would be made. Its
// passwords are not in it: each is a secret that is read from a file of its own, of which
// files are the names.
func Write(project, service string, p *making.Plan) (text []byte, files []string, err error) {
	s := types.ServiceConfig{Name: service, Image: p.Image, Environment: make(types.MappingWithEquals),
		Ports: []types.ServicePortConfig{{Mode: "ingress", HostIP: "127.0.0.1", Published: strconv.Itoa(p.Port),
			Target: uint32(p.Inside), Protocol: "tcp"}},
		Volumes: []types.ServiceVolumeConfig{{Type: types.VolumeTypeVolume, Source: p.Volume, Target: p.Folder}}}
	for _, v := range p.Variables {
		name, value, _ := strings.Cut(v, "=")
		value = strings.ReplaceAll(value, "$", "$$") // which stands for a variable's sign otherwise
		s.Environment[name] = &value
	}
	interval, begin, retries := types.Duration(5*time.Second), types.Duration(2*time.Minute), uint64(5)
	test := slices.Clone(p.Check)
	for i := range test {
		test[i] = strings.ReplaceAll(test[i], "$", "$$")
	}
	s.HealthCheck = &types.HealthCheckConfig{
		Test:        types.HealthCheckTest(test),
		Interval:    &interval,
		StartPeriod: &begin,
		Retries:     &retries,
	}
	secrets := make(types.Secrets)
	for _, one := range p.Secrets {
		name := path.Base(one.File)
		s.Secrets = append(s.Secrets, types.ServiceSecretConfig{Source: name, Target: name})
		secrets[name] = types.SecretConfig{File: "./" + name}
		files = append(files, name)
	}
	file := types.Project{
		Name:     project,
		Services: types.Services{service: s},
		Volumes:  types.Volumes{p.Volume: {}},
		Secrets:  secrets,
	}
	text, err = file.MarshalYAML()
	return text, files, err
}
