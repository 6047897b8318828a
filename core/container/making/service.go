package making

import (
	"context"
	"strconv"

	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// The labels by which a compose file's containers are found (compose specification, "labels").
const (
	projectLabel = "com.docker.compose.project"
	serviceLabel = "com.docker.compose.service"
	numberLabel  = "com.docker.compose.container-number"
)

// Service is a service of a compose file without a container.
type Service struct {
	Project, Name string
	Container     string // the name of the container to make
	Image         string
	Engine        *engine.Spec
	Environment   api.Environment
	Ports         map[int]api.Binding // by the port in the container: where it is published
	Volumes       map[string]string   // by folder
	Mounts        []api.SpecMount     // files and folders of the machine
}

// MakeService makes a service's container, and starts it. The container has the labels by which the compose file's
// own tools find it. Where a step fails, the container is removed; volumes stay, as they may have data.
func MakeService(ctx context.Context, client *api.Client, s Service) (id string, found *finding.Finding) {
	for _, volume := range s.Volumes {
		_, here, err := client.HasVolume(ctx, volume)
		if err == nil && !here {
			err = client.CreateVolume(ctx, volume, map[string]string{projectLabel: s.Project})
		}
		if err != nil {
			return "", find.FindingOf(err)
		}
	}
	id, err := client.Create(ctx, s.Container, s.spec())
	if err != nil {
		return "", find.FindingOf(err)
	}
	if err := client.Start(ctx, id); err != nil {
		client.Remove(context.WithoutCancel(ctx), id)
		return "", find.FindingOf(err)
	}
	return id, nil
}

// spec is the container in the engine's form.
func (s Service) spec() api.Spec {
	spec := api.Spec{
		Image:        s.Image,
		Labels:       map[string]string{projectLabel: s.Project, serviceLabel: s.Name, numberLabel: "1"},
		ExposedPorts: make(map[string]struct{}),
		HostConfig:   api.HostConfig{PortBindings: make(map[string][]api.Binding)},
	}
	for name, value := range s.Environment {
		spec.Env = append(spec.Env, name+"="+value.Disclose())
	}
	for target, binding := range s.Ports {
		port := strconv.Itoa(target) + "/tcp"
		spec.ExposedPorts[port] = struct{}{}
		spec.HostConfig.PortBindings[port] = []api.Binding{binding}
	}
	spec.HostConfig.Mounts = append(spec.HostConfig.Mounts, s.Mounts...)
	for folder, volume := range s.Volumes {
		spec.HostConfig.Mounts = append(spec.HostConfig.Mounts, api.SpecMount{Type: "volume", Source: volume, Target: folder})
	}
	return spec
}
