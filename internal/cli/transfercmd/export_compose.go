package transfercmd

import (
	"cmp"
	"context"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/making"
	"gentleharbor/core/intake/compose"
	"gentleharbor/core/lastseen"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
)

// exportCompose writes a compose file of a server like the profile's.
func (c *Call) exportCompose(ctx context.Context, p *resolve.Profile, o exportOptions) error {
	w := making.Request{
		Profile:  p.Profile.Name,
		Entry:    p.Profile.Name + "-password",
		Engine:   p.Engine(),
		User:     p.Text(key.User),
		Database: p.Text(key.Database),
		Image:    o.image,
		Name:     p.Profile.Name,
	}
	switch {
	case !making.Makeable(w.Engine):
		return base.Usage("a compose file can be written for %s; the profile's engine is %s",
			strings.Join(making.MakeableWords(c.Engines), ", "), cmp.Or(p.Text(key.Engine), "not said"))
	case w.User == "":
		return base.Usage("the profile does not say which user its server has")
	}
	w.Inside = w.Engine.Port
	w.Port = w.Inside
	if port := p.Port(); port != 0 && p.Local() {
		w.Port = port
	}
	project := p.Profile.Name
	if called, ok := address.ContainerOf(p); ok {
		if called.Compose() {
			project, w.Name = called.Project, called.Service
		}
		w.Image, w.Port = c.currentContainer(ctx, p, w.Image, w.Port)
	}
	if w.Image == "" {
		w.Image = making.OfficialImage(w.Engine, c.LastSeen().All()[lastseen.Key(p)].Version)
		c.Notice("the image is the engine's official one; for another: -image")
	}
	text, files, err := compose.Write(project, w.Name, making.Draft(w))
	if err != nil {
		return base.Usage("%w", err)
	}
	if err := c.writeOut(o.out, text); err != nil {
		return err
	}
	for _, file := range files {
		c.Say("  do: write the password into the file %s beside it: (umask 077; cat > %s)", file, clean.Shell(file))
	}
	return nil
}

// currentContainer is the image and the published port of a profile's container, where its engine has one now.
func (c *Call) currentContainer(ctx context.Context, p *resolve.Profile, image string, port int) (string, int) {
	called, _ := address.ContainerOf(p)
	client, one, found := c.Containers().Find(ctx, called, p.Text(key.Endpoint))
	if found != nil {
		return image, port
	}
	if image == "" && making.ValidImage(one.Config.Image) {
		image = one.Config.Image
	}
	seen, _ := c.Containers().Look(ctx, client, one, false)
	if at := seen.LocalPort(); at != 0 {
		port = at
	}
	return image, port
}
