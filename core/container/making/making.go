// Package making makes containers for profiles, and removes them: with a volume for the data, secrets as files, a
// port on loopback and a health check. It recognises its containers and volumes by labels, and changes no others. It
// stands beside package find, which finds containers.
package making

import (
	"context"
	"errors"
	"strings"

	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
)

// PullImage fetches the plan's image. It calls told with the bytes that have come and the bytes in all.
func (p *Plan) PullImage(ctx context.Context, told func(have, want int64)) *finding.Finding {
	name, tag := p.Image, "latest"
	if at := strings.LastIndexAny(name, ":@"); at > strings.LastIndexByte(name, '/') {
		if digest := strings.IndexByte(name, '@'); digest >= 0 {
			at = digest
		}
		name, tag = name[:at], name[at+1:]
	}
	if err := p.client.Pull(ctx, name, tag, told); err != nil {
		return p.noImage(err)
	}
	image, here, err := p.client.Image(ctx, p.Image)
	if err != nil {
		return find.FindingOf(err)
	}
	if !here {
		return p.noImage(errors.New("it was fetched, but is missing"))
	}
	p.takeImage(image)
	p.Pull = false
	return nil
}

// noImage is the finding for an image that could not be fetched.
func (p *Plan) noImage(err error) *finding.Finding {
	var failed *api.Error
	if errors.As(err, &failed) && failed.Kind != api.Refused {
		return find.FindingOf(err)
	}
	return finding.New(finding.ContainerImage, "the image %s is not on the engine's machine, and could not be fetched",
		p.Image).
		Saw("the container engine: %q", err.Error()).
		Suggest("%s pull %s   # signs in where that is needed", p.client.CLIName(), p.Image).
		Suggest("%s images   # those that are there", p.client.CLIName())
}

// Make makes the container, with its volumes and secrets, and starts it. values are the secrets, by the plan's
// variables. Where a step fails, it removes what it made.
func (p *Plan) Make(ctx context.Context, engines *find.Engines,
	values map[string]secret.Value) (undo func(), found *finding.Finding) {
	var undos []func(context.Context)
	undo = func() {
		ctx := context.WithoutCancel(ctx)
		for i := len(undos) - 1; i >= 0; i-- {
			undos[i](ctx)
		}
	}
	id, found := p.make(ctx, values, &undos)
	if found != nil {
		undo()
		return nil, found
	}
	if err := p.client.Start(ctx, id); err != nil {
		found := p.explainStart(ctx, engines, id, err)
		undo()
		return nil, found
	}
	return undo, nil
}

// make makes all but the start.
func (p *Plan) make(ctx context.Context, values map[string]secret.Value,
	undos *[]func(context.Context)) (id string, found *finding.Finding) {
	labels := map[string]string{profileLabel: p.Profile}
	volumes := []string{}
	if !p.OldVolume {
		volumes = append(volumes, p.Volume)
	}
	if p.Secretly != "" {
		volumes = append(volumes, p.Secretly)
	}
	for _, volume := range volumes {
		if err := p.client.CreateVolume(ctx, volume, labels); err != nil {
			return "", find.FindingOf(err)
		}
		*undos = append(*undos, func(ctx context.Context) { p.client.RemoveVolume(ctx, volume) })
	}
	open := make(map[string]string)
	var files []api.File
	for _, s := range p.Secrets {
		if s.File == "" {
			open[s.Variable] = values[s.Variable].Disclose()
			continue
		}
		files = append(files, api.File{
			Name:    strings.TrimPrefix(s.File, find.SecretsFolder+"/"),
			Content: values[s.Variable],
			UID:     p.uid,
		})
	}
	id, err := p.client.Create(ctx, p.Name, p.spec(open))
	if err != nil {
		return "", p.explainCreate(ctx, err)
	}
	*undos = append(*undos, func(ctx context.Context) {
		p.client.Stop(ctx, id)
		p.client.Remove(ctx, id)
	})
	if len(files) > 0 {
		if err := p.client.WriteFiles(ctx, id, find.SecretsFolder, files); err != nil {
			return "", find.FindingOf(err)
		}
	}
	return id, nil
}

func (p *Plan) explainCreate(ctx context.Context, err error) *finding.Finding {
	var failed *api.Error
	if errors.As(err, &failed) && failed.Status == 409 {
		if found := nameTaken(ctx, p.client, p.Request); found != nil {
			return found
		}
	}
	return find.FindingOf(err)
}

func (p *Plan) explainStart(ctx context.Context, engines *find.Engines, id string, err error) *finding.Finding {
	var failed *api.Error
	if errors.As(err, &failed) && find.IsAddressInUse(failed.Message) {
		if one, again := p.client.Inspect(ctx, id); again == nil {
			return engines.PortTaken(ctx, p.client, one, failed.Message)
		}
	}
	return find.FindingOf(err)
}

// Removal is what was done with a container's volumes.
type Removal struct {
	Volume string // with the data, "" where it has none of its own
	Gone   bool   // with the container
}

// Remove removes a container that gharbor made, with its secrets. The data stay in their volume, unless data is true.
func Remove(ctx context.Context, client *api.Client, one *api.Container, data bool) (Removal, *finding.Finding) {
	removed := Removal{Volume: one.Config.Labels[DataLabel]}
	if one.State.Running || one.State.Status == "restarting" {
		if err := client.Stop(ctx, one.ID); err != nil {
			return removed, find.FindingOf(err)
		}
	}
	if err := client.Remove(ctx, one.ID); err != nil {
		return removed, find.FindingOf(err)
	}
	if volume := one.Config.Labels[secretsLabel]; volume != "" && mounted(one, volume) && madeHere(ctx, client, volume) {
		if err := client.RemoveVolume(ctx, volume); err != nil && !api.Gone(err) {
			return removed, find.FindingOf(err)
		}
	}
	if data && mounted(one, removed.Volume) {
		if err := client.RemoveVolume(ctx, removed.Volume); err != nil && !api.Gone(err) {
			return removed, find.FindingOf(err)
		}
		removed.Gone = true
	}
	return removed, nil
}

// madeHere reports whether a volume was made by container make.
func madeHere(ctx context.Context, client *api.Client, volume string) bool {
	labels, ok, err := client.HasVolume(ctx, volume)
	return err == nil && ok && labels[profileLabel] != ""
}

// mounted reports whether a volume is one of a container's: a label alone says nothing.
func mounted(one *api.Container, volume string) bool {
	for _, m := range one.Mounts {
		if m.Type == "volume" && m.Name == volume {
			return true
		}
	}
	return false
}
