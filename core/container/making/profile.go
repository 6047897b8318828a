package making

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/container/find"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// Refusal says why no container can be made for a request.
type Refusal struct {
	Why string
	Try []string // commands to paste
}

func (r *Refusal) Error() string { return r.Why }

func newRefusal(why string, try ...string) error { return &Refusal{why, try} }

// Fits returns nil where a container can be made for a profile, else a *Refusal.
func Fits(p *resolve.Profile) error {
	called, in := address.ContainerOf(p)
	local := p.Address().OneHost() && p.Local()
	switch {
	case !Makeable(p.Engine()):
		return newRefusal(fmt.Sprintf("a container can be made for %s; the profile's engine is %s",
			strings.Join(MakeableWords(p.Schema().Engines()), ", "), cmp.Or(p.Text(key.Engine), "not said")))
	case len(p.Hops()) > 0:
		return newRefusal("the profile has hops, but the container would be on this side of them")
	case in && called.Compose():
		return newRefusal("the profile's container is a compose service; its compose file makes it",
			fmt.Sprintf("docker compose -p %s up -d %s", called.Project, called.Service))
	case !in && !local && p.Address().Known():
		return newRefusal("the profile leads to another machine or to a socket; a container needs a profile for this " +
			"machine")
	case p.Text(key.User) == "":
		return newRefusal("the profile does not say which user to make", "gharbor set "+p.Called+" user=NAME")
	case p.Text(key.Secret) == "none":
		return newRefusal("the profile says secret = \"none\": everybody on this machine could log in",
			"gharbor set "+p.Called+" secret=wallet")
	}
	return nil
}

// For completes a request with the values of a profile: the engine, the account, the database, the ports, and the
// wallet's entry for the password. A mistake in the request is a *Refusal.
func (w Request) For(p *resolve.Profile) (Request, error) {
	given := w
	w.Profile, w.Engine, w.User, w.Database = p.Profile.Name, p.Engine(), p.Text(key.User), p.Text(key.Database)
	w.Entry, w.Inside = w.Profile, w.Engine.Port
	if source, _ := secret.ParseSource(p.Text(key.Secret)); source.Kind == "wallet" && source.Arg != "" {
		w.Entry = source.Arg
	}
	called, in := address.ContainerOf(p)
	switch {
	case in && given.Name != "" && given.Name != called.Name:
		return w, newRefusal("-name and the profile name different containers")
	case in:
		w.Name, w.Fixed, w.Inside = called.Name, true, p.Port()
	case w.Name == "":
		w.Name = w.Profile
	}
	if !in && w.Port == 0 && p.Address().OneHost() && p.Port() != w.Inside {
		w.Port = p.Port()
	}
	switch { // engines take the same names for both
	case !validName(w.Name):
		return w, newRefusal("-name: expected a container's name: letters, digits, and . _ - between them")
	case w.Volume != "" && !validName(w.Volume):
		return w, newRefusal("-volume: expected a volume's name: letters, digits, and . _ - between them")
	}
	return w, nil
}

func validName(s string) bool {
	one, ok := schema.ParseContainer(s)
	return ok && !one.Compose()
}

// Changes are the changes of a profile for its new container. endpoint is the engine's, "" where profiles need not
// name it. Where own is true, the password stays in the profile's own source; else it is in the wallet.
func (p *Plan) Changes(of *resolve.Profile, endpoint string) (changes []schema.Override, own bool, err error) {
	set := func(k key.Name, value string) {
		field := of.Schema().Field(k)
		v, parseErr := field.ParseValue(value)
		err = errors.Join(err, parseErr)
		changes = append(changes, schema.Override{Field: field, Value: v})
	}
	if _, in := address.ContainerOf(of); !in {
		for _, k := range []key.Name{key.Host, key.Port} {
			if _, ok := of.WrittenValue(k); ok {
				changes = append(changes, schema.Override{Field: of.Schema().Field(k), Unset: true})
			}
		}
		set(key.Container, p.Name)
	}
	if of.Text(key.Endpoint) == "" && endpoint != "" {
		set(key.Endpoint, endpoint)
	}
	switch source, _ := secret.ParseSource(of.Text(key.Secret)); source.Kind {
	case "wallet":
	case "default", "container":
		set(key.Secret, "wallet:"+p.Entry)
	default:
		own = true
	}
	return changes, own, err
}

// ImageEngine is the word of the engine in an image's name, "" for none.
func ImageEngine(engines engine.Set, image string) string {
	if declared, _, ok := (find.Catalog{Known: engines}).Describe(nil, image, nil); ok {
		return declared.Engine
	}
	lower := strings.ToLower(image)
	words := engines.Words()
	for i := len(words) - 1; i >= 0; i-- {
		spec := engines.ByWord(words[i])
		if strings.Contains(lower, spec.Word) ||
			spec.Image != nil && spec.Image.Name != "" && strings.Contains(lower, spec.Image.Name) {
			return spec.Word
		}
	}
	return ""
}
