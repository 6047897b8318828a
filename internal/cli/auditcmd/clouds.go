package auditcmd

import (
	"context"
	"slices"

	"gentleharbor/core/address"
	"gentleharbor/core/audit"
	"gentleharbor/core/cloud"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/resolve"
)

// auditClouds are the cloud accounts of the user, and those of the project that were approved. Where ask is set,
// their services describe the instances that profiles name.
func (c *call) auditClouds(ctx context.Context, profiles []*resolve.Profile, ask bool) ([]audit.Cloud, error) {
	clouds, err := c.Clouds()
	if err != nil {
		return nil, err
	}
	var all []audit.Cloud
	for _, table := range clouds.File.AllClouds() {
		if table.InProject() {
			if _, found := c.Vouched.JudgeCloud(table, clouds.Home); found != nil {
				continue
			}
		}
		one := audit.Cloud{Cloud: table, Home: clouds.Home}
		if ask {
			if err := c.askCloud(ctx, clouds, &one, profiles); err != nil {
				return nil, err
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// askCloud asks a service for the instances that profiles name, and for the rules of their networks. It skips a
// service that does not answer, with a notice.
func (c *call) askCloud(ctx context.Context, clouds *cloud.Accounts, one *audit.Cloud,
	profiles []*resolve.Profile) error {
	var names []string
	refs := make(map[string]cloudref.Ref)
	for _, p := range profiles {
		if !p.Vouched() || !p.Address().InCloud() || address.CloudOf(p).Account != one.FullName() {
			continue
		}
		ref := address.CloudOf(p)
		refs[ref.Within()] = ref
		if !slices.Contains(names, ref.Instance) {
			names = append(names, ref.Instance)
		}
	}
	if len(names) == 0 {
		return nil
	}
	s, found := clouds.Session(one.FullName())
	if found == nil {
		one.Places, one.Rules = make(map[string]*wire.Place), make(map[string][]wire.Rule)
		found = s.Instances(ctx, names, func(i *wire.Instance) bool {
			one.Places[i.Name] = &i.Place
			for b := range i.Branches {
				one.Places[i.Name+"/"+i.Branches[b].Name] = &i.Branches[b].Place
			}
			return true
		})
	}
	for within, ref := range refs {
		if found != nil || ctx.Err() != nil {
			break
		}
		if place := one.Places[within]; place != nil && place.Access != nil {
			one.Rules[within], found = s.Rules(ctx, cloud.Subject{Ref: ref})
		}
	}
	if found != nil {
		c.Notice("the cloud account %s was not asked: %s (%s)", one.FullName(), found.Cause, found.Code)
	}
	return ctx.Err()
}
