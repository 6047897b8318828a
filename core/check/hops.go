package check

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
)

// hopPath is the part of a test that goes through hops.
type hopPath struct {
	hops    []*hop.Hop
	planned bool
	link    *hop.Link // to the last of them
	pending *Stage    // of the last hop: whether it forwards, the first dial through it tells
}

// count is the number of hops, as far as it is known.
func (w *hopPath) count(p *resolve.Profile) int {
	if w.planned {
		return len(w.hops)
	}
	return len(p.Hops())
}

// describeHops names the hops in front of an address, "" where there are none.
func (w *hopPath) describeHops() string {
	if len(w.hops) == 0 {
		return ""
	}
	words := make([]string, len(w.hops))
	for i, h := range w.hops {
		words[i] = h.String()
	}
	return " through " + strings.Join(words, ", then ")
}

// locateHopSecrets finds the secrets that the profile names for its hops, except those that a person must type.
func (t *test) locateHopSecrets(ctx context.Context) (said string, found *finding.Finding) {
	for _, e := range t.profile.Hops() {
		for _, q := range hop.SecretQueries(e) {
			if q.Source.Kind == "ask" || q.Source.Kind == "none" {
				continue
			}
			located, found := t.Finder.Locate(ctx, q)
			if located == nil {
				return "", found
			}
			said += fmt.Sprintf("; %s from %s", q.SettingKey(), located.Place)
		}
	}
	return said, nil
}

// planHops finds out which hops there are.
func (t *test) planHops(candidates []address.Candidate) finding.Result {
	hops, notes, found := t.Hops.Plan(t.profile)
	if found != nil {
		return finding.FailWith(found)
	}
	t.hops, t.planned = hops, true
	to := candidates[0].String()
	if n := len(candidates) - 1; n > 0 {
		to += fmt.Sprintf(" and %d more", n)
	}
	detail := "to " + to + t.describeHops()
	if len(notes) == 0 {
		return finding.Good("%s", detail)
	}
	warning := finding.New(finding.HopConfigIgnored, "the SSH client configuration has settings that gharbor does "+
		"not follow")
	for _, note := range notes[:min(len(notes), 5)] {
		warning.Saw("%s", note)
	}
	return finding.WarnWith(warning.Suggest("gharbor show %s   # the hops in full", t.profile.Called), "%s", detail)
}

// dialer connects to the hops for this test.
func (t *test) dialer() *hop.Dialer {
	return &hop.Dialer{
		Network:    t.Network,
		Finder:     t.Finder,
		Profile:    t.profile.Called,
		Unattended: t.hints != nil,
		Pause: func() func() {
			t.budget.pause()
			return t.budget.resume
		},
	}
}

// connectHops connects to one hop after the other. A hop that accepts the login may still forbid forwarding. That
// shows only at the next connection, so the hop's stage is recorded after it.
func (t *test) connectHops(ctx context.Context) bool {
	if t.openWay != nil {
		t.link = t.openWay
		return true
	}
	d := t.dialer()
	for _, h := range t.hops {
		ended, ok := t.run(ctx, step{h.Stage, func(ctx context.Context) finding.Result {
			link, result := d.Connect(ctx, t.link, h)
			if link != nil {
				t.link = link
			}
			return result
		}})
		if ended.Finding.Is(finding.HopForwardRefused) && ended.Outcome == finding.Fail && t.pending != nil {
			t.forbidden(ended)
			return false
		}
		t.settle()
		if !ok {
			t.stages.tell(ended)
			return false
		}
		t.pending = &ended
	}
	return true
}

// settle records the stage of the last hop, before the stages of a server.
func (t *test) settle() {
	if t.pending != nil {
		t.stages.tell(*t.pending)
		t.pending = nil
	}
}

// forbidden records that the last hop does not forward.
func (t *test) forbidden(next Stage) {
	t.pending.Outcome, t.pending.Finding = finding.Fail, next.Finding
	t.pending.MS += next.MS
	t.settle()
}

// reachThrough has the last hop connect to a server, which also looks its name up.
func (t *test) reachThrough(ctx context.Context, c address.Candidate) (*route.Connection, bool) {
	through := c.HopTargets()
	reached := &route.Connection{Network: "tcp", Address: through[0]}
	if c.Socket != "" {
		reached.Network = "unix"
	}
	var why hop.Reason
	end, ok := t.run(ctx, step{"reach", func(ctx context.Context) finding.Result {
		ctx, cancel := t.patience(ctx)
		defer cancel()
		var err error
		for _, reached.Address = range through {
			if reached.Conn, err = t.link.Dial(ctx, reached.Network, reached.Address); err == nil {
				return t.reachResult(c, reached)
			}
		}
		var found *finding.Finding
		found, why = t.unreachedThrough(c, err)
		return finding.FailWith(found)
	}})
	if why == hop.Prohibited && !t.stages.open && t.pending != nil {
		t.forbidden(end)
		return nil, false
	}
	t.settle()
	name := Stage{
		Stage:   "name",
		Outcome: finding.OK,
		Detail:  fmt.Sprintf("%s is looked up by %s, not here", c.Host, t.link.Hop),
	}
	switch {
	case t.stopped:
		name.Outcome, name.Detail = finding.Skip, ""
	case c.Socket != "":
		name.Detail = "a Unix socket has no name to resolve"
	case c.StaticHost != nil:
		_, given := t.Network.Names(ctx, "", c)
		name.Detail = given.Detail
	case why == hop.NameUnknown:
		end.Stage = "name"
		t.stages.record(end)
		return nil, false
	}
	t.stages.record(name)
	t.stages.record(end)
	if !ok && reached.Conn != nil {
		reached.Conn.Close()
	}
	return reached, ok
}

// unreachedThrough is the finding for a server that a hop could not reach.
func (t *test) unreachedThrough(c address.Candidate, err error) (*finding.Finding, hop.Reason) {
	if found := t.link.Refusal(err); found != nil {
		return found, hop.Prohibited
	}
	why, text := hop.ReasonOf(err)
	from, name := t.link.Hop, t.profile.Called
	var found *finding.Finding
	switch why {
	case hop.Prohibited:
		return t.link.Forbidden(c.String(), text), why
	case hop.NameUnknown:
		found = finding.New(finding.NameUnknownThere,
			"the jump host %s does not know the host name %s (names are looked up there)", from, clean.Quote(c.Host)).
			Advise("name the host: gharbor set %s host=NAME-OR-ADDRESS (as the hop knows it)", name)
	case hop.Refused:
		found = finding.New(finding.ReachRefused,
			"nothing listens at %s, seen from the jump host %s, or a firewall refuses the connection", c, from).
			Suggest("gharbor show %s   # are host and port right?", name)
	case hop.Silent:
		found = finding.New(finding.ReachTimeout,
			"%s does not answer the jump host %s: it is down, or a firewall between them drops the packets (%s "+
				"must be allowed to reach %s)", c, from, from.Host, c).
			Suggest("gharbor show %s   # are host and port right?", name).Suggest("gharbor test %s -timeout 30s", name)
	case hop.Unreachable:
		found = finding.New(finding.ReachUnreachable,
			"the jump host %s has no route to %s", from, c).
			Suggest("gharbor show %s   # its hops and host", name)
	case hop.Dropped:
		return finding.New(finding.HopDropped, "the jump host %s closed the connection when it was asked for %s",
			from, c).
			Saw("%s", text).Suggest("gharbor test %s", name), why
	default:
		found = finding.New(finding.ReachFailed, "the jump host %s could not reach %s",
			from, c).Suggest("gharbor show %s", name)
	}
	if text != "" {
		found.Saw("the jump host said %s", clean.Quote(text))
	}
	t.sawPassed(found)
	return found, why
}

// askHops takes what a person must type for a profile's hops.
func (r *Runner) askHops(ctx context.Context, p *resolve.Profile) error {
	if len(p.Hops()) == 0 {
		return nil
	}
	hops, _, found := r.Hops.Plan(p)
	if found != nil {
		return nil // its test will say so
	}
	d := &hop.Dialer{Network: r.Network, Finder: r.Finder, Profile: p.Called, Unattended: true}
	var failure *secret.Failure
	if err := d.PromptFirst(ctx, hops); err != nil && !errors.As(err, &failure) {
		return err
	}
	return nil
}

// conversation is the conversation with the server. Closing it closes the chain of hops too.
func (t *test) conversation() engine.Conversation {
	var conv engine.Conversation
	if t.last != nil {
		conv = t.last.conv
	}
	switch {
	case t.link == nil || t.openWay != nil:
		return conv
	case conv == nil:
		t.link.Close()
		return nil
	}
	return throughHops{conv, t.link}
}

type throughHops struct {
	engine.Conversation
	link *hop.Link
}

func (c throughHops) Close() {
	c.Conversation.Close()
	c.link.Close()
}
