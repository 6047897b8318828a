package hop

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hostkey"
	"gentleharbor/core/secret"
)

// reach dials a hop: from here, or from the hop before.
func (d *Dialer) reach(ctx context.Context, before *Link, h *Hop) (net.Conn, *finding.Finding) {
	if h.timeout > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, h.timeout)
		defer cancel()
	}
	if before != nil {
		conn, err := before.Dial(ctx, "tcp", h.Address())
		if err != nil {
			return nil, before.explainNext(d, h, err)
		}
		return conn, nil
	}
	c := address.Candidate{Host: h.Host, Port: h.Port}
	addrs, result := d.Network.Names(ctx, d.Profile, c)
	if result.Finding != nil {
		found := finding.New(finding.HopNameUnknown, "the jump host's name %s is not known", clean.Quote(h.Host))
		found.Seen = result.Finding.Seen
		if h.Word == "ssh:"+h.Host {
			found.Saw("the SSH client configuration has no Host for it")
		}
		return nil, found.Advise("name the host: %s", h.set("host", "HOST")).Suggest("getent hosts %s", clean.Shell(h.Host))
	}
	reached, tried := d.Network.Reach(ctx, c, addrs)
	if reached == nil {
		return nil, d.explainFirst(h, tried)
	}
	return reached.Conn, nil
}

// explainFirst returns the finding for a first hop that did not accept.
func (d *Dialer) explainFirst(h *Hop, tried []route.Attempt) *finding.Finding {
	plain := route.ExplainUnreached(d.Profile, address.Candidate{Host: h.Host, Port: h.Port}, tried)
	code, cause := finding.HopFailed, fmt.Sprintf("the jump host %s could not be reached", h)
	switch plain.Code {
	case finding.ReachRefused:
		code, cause = finding.HopRefused, fmt.Sprintf("nothing listens at the jump host %s, or a firewall refuses "+
			"the connection: is its SSH server running, on this port?", h.Address())
	case finding.ReachTimeout:
		code, cause = finding.HopTimeout, fmt.Sprintf("the jump host %s does not answer: it is down, it has "+
			"another address, or a firewall drops the packets", h.Address())
	case finding.ReachUnreachable:
		code, cause = finding.HopUnreachable, fmt.Sprintf("this machine has no route to the jump host %s: no "+
			"network, or a VPN that is down", h.Address())
	}
	found := finding.New(code, "%s", cause)
	found.Seen = plain.Seen
	return h.suggestAddress(found)
}

// suggestAddress suggests the commands that change a hop's address.
func (h *Hop) suggestAddress(found *finding.Finding) *finding.Finding {
	if h.behind && h.Proxy == "" && !strings.HasPrefix(h.Word, "ssh:") { // the system's own client can't go there
		what, value := key.Port, "PORT"
		if found.Is(finding.HopNameUnknown) {
			what, value = key.Host, "HOST"
		}
		return found.Advise("give the right %s: %s", what, h.set(what, value))
	}
	switch {
	case h.Proxy != "":
		return found.Advise("name the proxy: %s", h.set("proxy", h.Proxy+"://HOST:PORT"))
	case strings.HasPrefix(h.Word, "ssh:"):
		return found.Suggest("ssh -G %s | grep -iE '^(hostname|port|user) '   # what the SSH client makes of it",
			clean.Shell(strings.TrimPrefix(h.Word, "ssh:")))
	}
	return found.Advise("give the right port: %s", h.set("port", "PORT")).
		Suggest("ssh -v -p %d %s   # does the system's own client get there?", h.Port, clean.Shell(h.User+"@"+h.Host))
}

// explainNext returns the finding for a hop that the one before could not reach.
func (l *Link) explainNext(d *Dialer, h *Hop, err error) *finding.Finding {
	if found := l.Refusal(err); found != nil {
		return found
	}
	why, text := ReasonOf(err)
	if why == Prohibited {
		return l.Forbidden(h.Address(), text)
	}
	code := map[Reason]finding.Code{
		Refused:     finding.HopRefused,
		Silent:      finding.HopTimeout,
		Unreachable: finding.HopUnreachable,
		NameUnknown: finding.HopNameUnknown,
	}[why]
	cause := map[Reason]string{
		Refused:     "nothing listens there, or a firewall refuses the connection",
		Silent:      "it does not answer: a firewall may drop the packets",
		Unreachable: "there is no route to it",
		NameUnknown: "its name is not known there",
	}[why]
	if code == "" {
		code, cause = finding.HopFailed, "it could not be reached"
	}
	return h.suggestAddress(finding.New(code, "%s can't reach the next jump host %s: %s", l.Hop, h.Address(), cause).
		Saw("%s said %s", l.Hop, clean.Quote(text)))
}

// Forbidden is the finding for a hop that allows no forwarding.
func (l *Link) Forbidden(address, text string) *finding.Finding {
	found := finding.New(finding.HopForwardRefused, "the jump host %s lets %s in, but does not allow forwarding to "+
		"%s", l.Hop,
		clean.Quote(l.Hop.User), address)
	if text != "" {
		found.Saw("it said %s", clean.Quote(text))
	}
	if l.Hop.Proxy != "" {
		return found.Advise("ask the administrator of the proxy to allow %s", address)
	}
	return found.Saw("an SSH server says this for AllowTcpForwarding no or remote, for a PermitOpen without this "+
		"address, for a key with no-port-forwarding or restrict, and for a certificate without port forwarding").
		Advise("ask the administrator of %s to allow it: AllowTcpForwarding local in sshd_config, and %s in a PermitOpen "+
			"that is there; for a key, permitopen= before it in authorized_keys; a certificate must be signed again",
			l.Hop.Host, address)
}

// Reason is why a hop could not open a connection.
type Reason int

// The reasons.
const (
	Other Reason = iota
	Prohibited
	Refused
	Silent
	Unreachable
	NameUnknown
	Dropped // the connection to the hop ended meanwhile
)

// ReasonOf is the reason of a failed Dial through a hop, and the hop's message. An SSH server has a number for what
// it forbids, and gives all else in words: those of its C library (OpenSSH), or those of our own servers.
func ReasonOf(err error) (Reason, string) {
	var open *ssh.OpenChannelError
	var answer *proxyError
	switch {
	case errors.As(err, &answer):
		return answer.reason, answer.text
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return Silent, "nothing in time"
	case !errors.As(err, &open):
		return Dropped, clean.Line(err.Error(), 200)
	case open.Reason == ssh.Prohibited:
		return Prohibited, open.Message
	}
	text := strings.ToLower(open.Message)
	for _, known := range []struct {
		reason Reason
		words  []string
	}{
		{Refused, []string{"connection refused", "no such file"}},
		{Silent, []string{"timed out", "timeout"}},
		{Unreachable, []string{"no route to host", "unreachable"}},
		{NameUnknown, []string{"name or service not known", "name resolution", "no address associated", "servname",
			"no such host", "not known"}},
	} {
		if slices.ContainsFunc(known.words, func(w string) bool { return strings.Contains(text, w) }) {
			return known.reason, open.Message
		}
	}
	return Other, open.Message
}

// explainHandshake returns the finding for a handshake that failed.
func (a *attempt) explainHandshake(ctx context.Context, err error) *finding.Finding {
	h := a.h
	var negotiation *ssh.AlgorithmNegotiationError
	var failure *secret.Failure
	said := a.wire.firstBytes()
	switch {
	case a.key != nil && a.verdict.Outcome != hostkey.Known:
		return a.hostKey()
	case errors.As(a.trouble, &failure):
		return failure.Found
	case errors.As(a.ring.failed, &failure):
		return failure.Found
	case ctx.Err() != nil && a.ring.waits.Load():
		return finding.New(finding.HopTimeout, "the SSH agent did not sign in time for the jump host %s", h).
			Saw("it may ask its owner to confirm, or wait for a touch of a security key: %s", h.agent).
			Suggest("gharbor test %s -timeout 1m   # and confirm meanwhile", a.d.Profile).
			Suggest("ssh-add -l   # does the agent answer at all?")
	case oldVersion(said):
		return finding.New(finding.HopNotSsh,
			"the jump host %s speaks only SSH version 1, which is broken", h).
			Saw("it said %s", clean.Bytes(said, 80)).
			Advise("ask the administrator of %s to update its SSH server", clean.Shell(h.Host))
	case errors.As(err, &negotiation):
		return a.explainOldAlgorithms(negotiation)
	case a.accepts != nil:
		return a.explainLogin(ctx, err)
	case ctx.Err() != nil && len(said) == 0:
		return h.suggestAddress(finding.New(finding.HopSilent,
			"%s accepts the connection and says nothing: it is no SSH server, or it is overloaded", h.Address()))
	case ctx.Err() != nil && !strings.Contains(string(said), "SSH-"):
		return a.notSSH(said)
	case ctx.Err() != nil:
		return finding.New(finding.HopTimeout, "the jump host %s did not finish the SSH handshake in time", h).
			Suggest("gharbor test %s -timeout 30s", a.d.Profile)
	case busy(said) || len(said) == 0:
		found := finding.New(finding.HopClosed, "%s accepts the connection and closes it at once", h.Address())
		if len(said) > 0 {
			found.Saw("it said %s", clean.Bytes(said, 120))
		}
		return found.Saw("an SSH server does that when too many connections wait (MaxStartups), after failed "+
			"logins from this address, or when this host is forbidden; another kind of server may do it too").
			Suggest("gharbor wait %s -within 2m", a.d.Profile).
			Advise("ask the administrator of %s what its log says", clean.Shell(h.Host))
	case !strings.Contains(string(said), "SSH-"):
		return a.notSSH(said)
	}
	return h.suggestAddress(finding.New(finding.HopFailed, "the connection to the jump host %s broke off", h).
		Saw("%s", clean.Line(plain(err), 300)))
}

// busy reports whether the first words are those of an SSH server that takes no more connections.
func busy(said []byte) bool {
	return strings.HasPrefix(string(said), "Exceeded MaxStartups") ||
		strings.HasPrefix(string(said), "Not allowed at this time")
}

func (a *attempt) notSSH(said []byte) *finding.Finding {
	found := finding.New(finding.HopNotSsh, "what listens at %s is not an SSH server", a.h.Address())
	if s, ok := a.h.greetings.Recognise(said); ok {
		found.Saw("it is %s", s.What)
	} else {
		found.Saw("it said %s", clean.Bytes(said, 80))
	}
	return a.h.suggestAddress(found)
}

// hostKey is the finding for a host key that is not trusted.
func (a *attempt) hostKey() *finding.Finding {
	h, v := a.h, a.verdict
	shown := hostkey.Describe(a.key)
	switch v.Outcome {
	case hostkey.Revoked:
		return finding.New(finding.HopHostKeyRevoked, "the host key of %s is revoked, so nothing was sent", h).
			Saw("it shows %s", shown).Saw("%s says @revoked", v.By).
			Advise("ask the administrator of %s which key it has now", clean.Shell(h.Host))
	case hostkey.Certificate:
		return finding.New(finding.HopHostCertificate,
			"the host certificate of %s is not valid, so nothing was sent", h).
			Saw("%s", v.Reason).Saw("its authority is known by %s", v.By).
			Advise("ask the administrator of %s for a new host certificate", clean.Shell(h.Host))
	case hostkey.Changed:
		found := finding.New(finding.HopHostKeyChanged,
			"%s shows a different host key than before: it may be an attacker's machine, so nothing was sent",
			h).Saw("it shows %s", shown)
		for _, line := range v.Against[:min(len(v.Against), 4)] {
			found.Saw("%s", line)
		}
		found.Advise("ask the administrator of %s whether that is its new key; run the commands above only then",
			clean.Shell(h.Host))
		files := map[string]bool{}
		for _, l := range v.Lines {
			if !files[l.File] {
				found.Suggest("ssh-keygen -R %s -f %s", clean.Shell(h.keyName), clean.Shell(l.File))
			}
			files[l.File] = true
		}
		if len(v.Lines) == 0 {
			return found.Suggest("%s", h.set("host-key", hostkey.Fingerprint(a.key)))
		}
		return found.Suggest("gharbor hop pin %s", a.d.Profile)
	}
	found := finding.New(finding.HopHostKeyUnknown, "the host key of %s is not known yet, so nothing was sent", h).
		Saw("it shows %s", shown).
		Saw("looked for %s in %s", h.keyName, strings.Join(h.known, ", "))
	a.sawSkipped(found)
	return found.Suggest("gharbor hop pin %s   # after comparing the fingerprint with the hop's administrator",
		a.d.Profile)
}

// explainOldAlgorithms is the finding for a hop that has no algorithm in common with us.
func (a *attempt) explainOldAlgorithms(e *ssh.AlgorithmNegotiationError) *finding.Finding {
	h := a.h
	found := finding.New(finding.HopAlgorithms, "the jump host %s and gharbor have no %s in common", h, e.What).
		Saw("it offers only %s", clean.Line(strings.Join(e.RequestedAlgorithms, ", "), 300))
	old := ssh.InsecureAlgorithms()
	var able []string
	for _, name := range e.RequestedAlgorithms {
		if slices.Contains(slices.Concat(old.KeyExchanges, old.Ciphers, old.MACs, old.HostKeys, []string{ssh.HMACSHA1}),
			name) {
			able = append(able, name)
		}
	}
	found.Advise("ask the administrator of %s to update its SSH server", clean.Shell(h.Host))
	if len(able) > 0 {
		found.Suggest("%s   # weak; audit reports it",
			h.set("algorithms", strings.Join(append(slices.Clone(h.older), able[0]), ",")))
	}
	return found
}

// explainLogin returns the finding for a login that did not succeed.
func (a *attempt) explainLogin(ctx context.Context, err error) *finding.Finding {
	h := a.h
	accepts := "it takes: " + clean.Line(strings.Join(a.accepts, ", "), 120)
	var found *finding.Finding
	switch {
	case strings.Contains(err.Error(), "Too many authentication failures"):
		found = finding.New(finding.HopTooManyFailures,
			"the jump host %s ended the login after too many tries (each key that is tried counts)", h)
		a.sawOffers(found)
		found.Suggest("%s", h.set("agent", "false")).Advise("name the key file: %s", h.set("key", "PATH"))
		return a.sawBanner(found)
	case ctx.Err() != nil:
		found = finding.New(finding.HopTimeout, "the login at the jump host %s did not end in time", h).
			Suggest("gharbor test %s -timeout 30s", a.d.Profile)
		a.sawOffers(found)
		return found
	case a.open != "":
		found = finding.New(finding.HopQuestions, "the jump host %s asks a question, and there is no terminal to "+
			"ask you", h).
			Saw("it asks %s", clean.Quote(a.open)).Suggest("gharbor test %s   # in a terminal", a.d.Profile)
		if len(a.ring.offers)+len(a.ring.problems) == 0 && !h.noKeys {
			found.Advise("or name a key file: %s", h.set("key", "PATH"))
		}
	case a.answered != "":
		found = finding.New(finding.HopPasswordRefused, "the jump host %s refuses the password", h).
			Saw("the password is from: %s", a.answered)
		a.d.Finder.Forget(h.query(secret.OfHop, "secret", h.Word))
		a.d.Secrets.forget(h.query(secret.OfHop, "secret", h.Word))
		found.Advise("name another user: %s", h.set("user", "NAME")).Suggest("%s", h.set("secret", "ask"))
	case len(a.asked) > 0:
		found = finding.New(finding.HopPasswordRefused, "the jump host %s refuses the answers to its questions", h)
		for _, prompt := range a.asked[:min(len(a.asked), 3)] {
			found.Saw("it asked %s", clean.Quote(prompt))
		}
		found.Advise("name another user: %s", h.set("user", "NAME")).Suggest("%s", h.set("secret", "ask"))
	case len(a.ring.offers) > 0 && len(a.partial) == 0:
		found = finding.New(finding.HopKeyRefused, "the jump host %s accepts none of the keys for the user %s", h,
			clean.Quote(h.User))
		if a.ring.unfit != "" {
			found.Advise("have %s signed again, for this user and this machine", a.ring.unfit)
		}
		found.Advise("name the key file: %s", h.set("key", "PATH")).Advise("name another user: %s", h.set("user", "NAME"))
		if path := publicPart(a.ring); path != "" {
			found.Suggest("ssh-copy-id -i %s -p %d %s   # if you can log in another way", clean.Shell(path), h.Port,
				clean.Shell(h.User+"@"+h.Host))
		}
	case len(a.ring.problems) > 0:
		first := *a.ring.problems[0]
		return first.Saw("%s", accepts)
	default:
		found = finding.New(finding.HopLogin, "there is no key and no password for the jump host %s", h)
		if slices.Contains(a.accepts, "publickey") {
			found.Advise("name the key file: %s", h.set("key", "PATH")).Advise(
				"or let the SSH agent hold the key: ssh-add PATH")
		}
		if slices.Contains(a.accepts, "password") || slices.Contains(a.accepts, "keyboard-interactive") {
			found.Suggest("%s", h.set("secret", "ask"))
		}
	}
	a.sawOffers(found)
	found.Saw("%s", accepts)
	if tried := slices.DeleteFunc(slices.Clone(a.tried), func(m string) bool { return m == "none" }); len(tried) > 0 {
		found.Saw("tried: %s", strings.Join(tried, ", "))
	}
	if len(a.partial) > 0 {
		found.Saw("it wants more than one login method; these worked: %s", strings.Join(a.partial, ", "))
	}
	if a.ring.failed != nil {
		found.Saw("a signature failed: %s", clean.Line(a.ring.failed.Error(), 200))
	}
	return a.sawBanner(found)
}

func (a *attempt) sawBanner(found *finding.Finding) *finding.Finding {
	if a.banner != "" {
		found.Saw("its banner: %s", clean.Quote(a.banner))
	}
	return found
}

// sawOffers adds to a finding which keys were offered, and which could not be.
func (a *attempt) sawOffers(found *finding.Finding) {
	for _, o := range a.ring.offers {
		found.Saw("offered: %s", o.what)
	}
	for _, problem := range a.ring.problems {
		found.Saw("not tried: %s", problem.Cause)
	}
	found.Seen = append(found.Seen, a.ring.seen...)
}

// publicPart is the file of the public part of a key that was offered, "" for none.
func publicPart(r *keyRing) string {
	for _, k := range r.h.keys {
		path := strings.TrimSuffix(k.path, ".pub") + ".pub"
		if _, err := os.Stat(path); err != nil {
			continue
		}
		for _, o := range r.offers {
			if strings.Contains(o.what, "key "+k.path) {
				return path
			}
		}
	}
	return ""
}

// plain is an error of the SSH library without its prefixes.
func plain(err error) string {
	text := err.Error()
	for _, prefix := range []string{"ssh: handshake failed: ", "ssh: "} {
		text = strings.TrimPrefix(text, prefix)
	}
	if errors.Is(err, syscall.ECONNRESET) {
		return "connection reset by peer"
	}
	return text
}
