package hop

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hostkey"
	"gentleharbor/core/secret"
)

// Dialer makes the connections to hops. Its fields are what it needs from the machine and from a person.
type Dialer struct {
	Network route.Network
	Finder  *secret.Finder
	Profile string // the name of the profile, for the lines to try

	// Pause stops the time limit of a test while a person is asked; resume starts it again. It may be nil.
	Pause func() (resume func())

	// Secrets remembers opened keys and typed passwords, for a tunnel that connects again when nobody is there. It
	// may be nil.
	Secrets *SecretCache

	// Unattended asks a person only for secrets whose source is ask.
	Unattended bool
}

// Link is a connection to one hop, through those before it.
type Link struct {
	Hop    *Hop
	Detail string // how it came about, for a stage
	Warn   *finding.Finding

	client *ssh.Client
	proxy  func(ctx context.Context, address string) (net.Conn, error) // of a proxy
	before *Link
	gone   chan struct{}
	cause  error
}

// Close ends the link and those before it.
func (l *Link) Close() {
	for ; l != nil; l = l.before {
		if l.client != nil {
			l.client.Close()
		}
	}
}

// lastSSH is the link of the last SSH hop, nil where all are proxies, which keep no connection open.
func (l *Link) lastSSH() *Link {
	for ; l != nil && l.client == nil; l = l.before {
	}
	return l
}

// Lasts reports whether the link keeps a connection open, which can be lost.
func (l *Link) Lasts() bool { return l.lastSSH() != nil }

// Done is closed when the connection to the hop has ended; Cause then says why.
func (l *Link) Done() <-chan struct{} {
	if ssh := l.lastSSH(); ssh != nil {
		return ssh.gone
	}
	return nil
}

// Cause is why the connection ended.
func (l *Link) Cause() error {
	ssh := l.lastSSH()
	<-ssh.gone
	return ssh.cause
}

// AliveEvery is the time between two keep-alive messages: that of the SSH client configuration, or the given one.
func (l *Link) AliveEvery(byDefault time.Duration) time.Duration {
	if l.Hop.alive > 0 {
		return l.Hop.alive
	}
	return byDefault
}

// Alive asks the hop for any answer.
func (l *Link) Alive(ctx context.Context) error {
	ssh := l.lastSSH()
	if ssh == nil {
		return nil
	}
	answer := make(chan error, 1)
	defect.Go(func() {
		_, _, err := ssh.client.SendRequest("keepalive@openssh.com", true, nil)
		answer <- err
	})
	select {
	case err := <-answer:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Connect reaches a hop through the one before, checks its host key, and logs in. before is nil for the first. A link
// that is not nil must be closed; that also closes those before it.
func (d *Dialer) Connect(ctx context.Context, before *Link, h *Hop) (*Link, finding.Result) {
	if found := h.clear(before); found != nil {
		return nil, finding.FailWith(found)
	}
	conn, found := d.reach(ctx, before, h)
	if found != nil {
		return nil, finding.FailWith(found)
	}
	if h.Proxy != "" {
		return d.proxyLink(ctx, before, h, conn)
	}
	l := &Link{Hop: h, before: before, gone: make(chan struct{})}
	result := d.handshake(ctx, l, conn)
	if result.Outcome == finding.Fail {
		conn.Close()
		return nil, result
	}
	l.Detail, l.Warn = result.Detail, result.Finding
	return l, result
}

// HostKey asks a hop for its host key, through the hop before, and ends the connection before the login. The finding
// is nil where there is a key.
func (d *Dialer) HostKey(ctx context.Context, before *Link, h *Hop) (ssh.PublicKey, hostkey.Verdict, *finding.Finding) {
	conn, found := d.reach(ctx, before, h)
	if found != nil {
		return nil, hostkey.Verdict{}, found
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	a := newAttempt(d, h, conn)
	a.onlyKey = true
	_, _, _, err := ssh.NewClientConn(a.wire, h.Address(), a.config(ctx))
	if a.key == nil {
		return nil, hostkey.Verdict{}, a.explainHandshake(ctx, err)
	}
	if a.verdict.Outcome != hostkey.Known && a.verdict.Outcome != hostkey.Unknown {
		return a.key, a.verdict, a.hostKey()
	}
	return a.key, a.verdict, nil
}

func newAttempt(d *Dialer, h *Hop, conn net.Conn) *attempt {
	return &attempt{
		d:     d,
		h:     h,
		wire:  &sniffConn{Conn: conn, greetings: h.greetings},
		store: hostkey.Read(h.known...),
		ring:  &keyRing{d: d, h: h},
	}
}

// KeyName is what known-hosts files call the hop.
func (h *Hop) KeyName() string { return h.keyName }

// attempt is one handshake, with what was seen of it so far.
type attempt struct {
	d        *Dialer
	h        *Hop
	wire     *sniffConn
	ring     *keyRing
	store    *hostkey.Store
	verdict  hostkey.Verdict
	key      ssh.PublicKey // that the hop showed, nil before
	banner   string
	accepts  []string // the methods that it takes
	tried    []string
	partial  []string
	answered string // the place of the password that was sent, "" for none
	asked    []string
	open     string // the question that nobody answered, "" for none
	trouble  error  // of a callback
	onlyKey  bool   // nothing but the host key is wanted
}

func (d *Dialer) handshake(ctx context.Context, l *Link, conn net.Conn) finding.Result {
	h := l.Hop
	a := newAttempt(d, h, conn)
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	defer func() { a.ring.close() }()
	config := a.config(ctx)
	c, channels, requests, err := ssh.NewClientConn(a.wire, h.Address(), config)
	if err == nil && !stop() {
		err = ctx.Err()
	}
	if err != nil {
		return finding.FailWith(a.explainHandshake(ctx, err))
	}
	a.wire.stopRecording()
	l.client = ssh.NewClient(c, channels, requests)
	defect.Go(func() {
		l.cause = l.client.Wait()
		close(l.gone)
	})
	detail := fmt.Sprintf("%s: in %s; host key %s, known by %s", h, a.authMethod(), hostkey.Kind(a.key),
		h.shortPath(a.verdict.By))
	return a.withWarnings(detail, c)
}

// withWarnings is the result of a login that succeeded, with what is weak about it.
func (a *attempt) withWarnings(detail string, c ssh.Conn) finding.Result {
	used := c.(interface {
		Algorithms() ssh.NegotiatedAlgorithms
	}).Algorithms()
	var old []string
	for _, name := range []string{used.KeyExchange, used.HostKey, used.Read.Cipher, used.Write.Cipher, used.Read.MAC,
		used.Write.MAC} {
		if slices.Contains(a.h.older, name) && !slices.Contains(old, name) {
			old = append(old, name)
		}
	}
	if len(old) > 0 {
		return finding.WarnWith(finding.New(finding.HopOldAlgorithms,
			"the jump host %s uses outdated algorithms", a.h).
			Saw("%s, as the profile allows", strings.Join(old, ", ")).
			Suggest("%s", a.h.set("algorithms", "   # after its SSH server was updated")), "%s", detail)
	}
	if len(a.store.Skipped) > 0 {
		found := finding.New(finding.HopKnownHosts,
			"a known-hosts file has lines that can't be read; keys in these lines are not known")
		a.sawSkipped(found)
		path, _, _ := strings.Cut(strings.Fields(a.store.Skipped[0])[0], ":")
		return finding.WarnWith(found.Suggest("${EDITOR:-vi} %s", clean.Shell(path)), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// sawSkipped adds to a finding which lines of known-hosts files could not be read.
func (a *attempt) sawSkipped(found *finding.Finding) {
	const most = 3
	for _, line := range a.store.Skipped[:min(len(a.store.Skipped), most)] {
		found.Saw("%s", clean.Line(line, 0))
	}
	if more := len(a.store.Skipped) - most; more > 0 {
		found.Saw("and %d more %s", more, clean.Plural(more, "line"))
	}
}

// authMethod describes how the login was authenticated.
func (a *attempt) authMethod() string {
	h := a.h
	for _, o := range a.ring.offers {
		if o.used {
			if a.answered != "" {
				return "by " + h.shortPath(o.name) + " and a password from: " + a.answered
			}
			return "by " + h.shortPath(o.name)
		}
	}
	switch {
	case a.answered != "":
		return "by password, from: " + a.answered
	case len(a.asked) > 0:
		return "by answers to its questions"
	}
	return "without any login"
}

// config is the SSH library's configuration.
func (a *attempt) config(ctx context.Context) *ssh.ClientConfig {
	h := a.h
	all := ssh.SupportedAlgorithms()
	current := func(list []string) []string {
		list = slices.DeleteFunc(slices.Clone(list), // what is deleted may be allowed by name
			func(name string) bool { return strings.HasSuffix(name, "-sha1") || name == ssh.HMACSHA1 })
		return append(list, h.older...)
	}
	allowed := func(list, supported []string) []string { // a name of another kind is none of this list's
		return slices.DeleteFunc(list, func(name string) bool { return !slices.Contains(supported, name) })
	}
	old := ssh.InsecureAlgorithms()
	c := &ssh.ClientConfig{User: h.User, ClientVersion: "SSH-2.0-gharbor"}
	c.KeyExchanges = allowed(current(all.KeyExchanges), append(all.KeyExchanges, old.KeyExchanges...))
	c.Ciphers = allowed(current(all.Ciphers), append(all.Ciphers, old.Ciphers...))
	c.MACs = allowed(current(all.MACs), append(all.MACs, old.MACs...))
	keys := allowed(current(all.HostKeys), append(all.HostKeys, old.HostKeys...))
	slices.SortStableFunc(keys, func(a, b string) int { return rank(a) - rank(b) })
	c.HostKeyAlgorithms = a.store.Algorithms(h.keyName, h.pin, keys)
	c.HostKeyCallback = func(_ string, _ net.Addr, k ssh.PublicKey) error { return a.judge(k) }
	c.BannerCallback = func(message string) error {
		a.banner = clean.Line(message, 300)
		return nil
	}
	c.AuthCallback = func(state *ssh.ClientAuthContext) (ssh.AuthMethod, error) {
		a.accepts, a.tried, a.partial = state.AllowedMethods, state.TriedMethods, state.PartialSuccessMethods
		return nil, a.trouble
	}
	c.Auth = a.methods(ctx)
	return c
}

// rank orders the kinds of host key: the best kind for a new host comes first.
func rank(algorithm string) int {
	for i, word := range []string{"ed25519", "ecdsa", "rsa"} {
		if strings.Contains(algorithm, word) {
			return i
		}
	}
	return 3
}

var errHostKey = errors.New("the host key is refused")

// judge checks the hop's host key, before the login.
func (a *attempt) judge(k ssh.PublicKey) error {
	a.key = k
	a.verdict = a.store.Judge(a.h.keyName, a.h.pin, k)
	if a.verdict.Outcome == hostkey.Known && !a.onlyKey {
		return nil
	}
	return errHostKey
}

func (d *Dialer) pause() (resume func()) {
	if d.Pause == nil {
		return func() {}
	}
	return d.Pause()
}

// methods are the login methods, in order: keys, then those that a password can answer.
func (a *attempt) methods(ctx context.Context) []ssh.AuthMethod {
	h := a.h
	keys := ssh.PublicKeysCallback(func() ([]ssh.Signer, error) {
		a.ring = a.d.ring(ctx, h)
		signers := make([]ssh.Signer, len(a.ring.offers))
		for i, o := range a.ring.offers {
			signers[i] = o.Signer
		}
		for _, problem := range a.ring.problems {
			if named(h, problem) {
				a.trouble = &secret.Failure{Found: problem}
				return nil, a.trouble
			}
		}
		return signers, nil
	})
	password := ssh.PasswordCallback(func() (string, error) {
		value, err := a.password(ctx)
		if err != nil {
			return "", err
		}
		return value.Disclose(), nil
	})
	questions := ssh.KeyboardInteractive(func(_, _ string, prompts []string, echo []bool) ([]string, error) {
		return a.answer(ctx, prompts, echo)
	})
	var all []ssh.AuthMethod
	if !h.noKeys {
		all = append(all, keys)
	}
	explicit := !h.derived() && h.Of.Text(key.Secret) != ""
	switch {
	case h.noPassword && !h.noQuestion:
		all = append(all, questions)
	case !h.noPassword && h.noQuestion:
		all = append(all, password)
	case h.noPassword:
	case explicit:
		all = append(all, password, questions)
	default:
		all = append(all, questions, password)
	}
	return all
}

// named reports whether a problem is that of a key file which the profile names: it is a mistake there, also where
// another key could log in.
func named(h *Hop, problem *finding.Finding) bool {
	return slices.ContainsFunc(h.keys, func(k keyFile) bool { return k.named && strings.Contains(problem.Cause, k.path) })
}

// errNoSecret ends a method for which there is no secret.
var errNoSecret = errors.New("there is no password for it")

// password takes the account's password.
func (a *attempt) password(ctx context.Context) (secret.Value, error) {
	value, place, err := a.d.take(ctx, a.h.query(secret.OfHop, "secret", a.h.Word))
	if err != nil {
		a.trouble = err
		return secret.Value{}, err
	}
	if !value.Present() {
		return secret.Value{}, errNoSecret
	}
	a.answered = place
	return value, nil
}

// answer answers a server's questions: one that asks for the password, alone and without echo, gets it once; a person
// answers all others.
func (a *attempt) answer(ctx context.Context, prompts []string, echo []bool) ([]string, error) {
	answers := make([]string, len(prompts))
	for i, prompt := range prompts {
		prompt = clean.Line(prompt, 120)
		a.asked = append(a.asked, prompt)
		if !echo[i] && len(prompts) == 1 && a.answered == "" && strings.Contains(strings.ToLower(prompt), "password") {
			value, err := a.password(ctx)
			if errors.Is(err, errNoSecret) {
				a.open = prompt
			}
			if err != nil {
				return nil, err
			}
			answers[i] = value.Disclose()
			continue
		}
		if !a.d.Finder.Terminal || a.d.Unattended {
			a.open = prompt
			return nil, errNoSecret
		}
		resume := a.d.pause()
		value, err := a.d.Finder.Ask(ctx, fmt.Sprintf("%s asks %s", a.h, clean.Quote(prompt)))
		resume()
		if err != nil {
			a.trouble = err
			return nil, err
		}
		answers[i] = value.Disclose()
	}
	return answers, nil
}

// query says which hop or key needs a secret.
func (h *Hop) query(kind, k, address string) secret.Query {
	q := secret.Query{
		Kind:    kind,
		Setting: "hop.N." + k,
		Address: address,
		User:    h.User,
		Host:    h.Host,
		Source:  secret.Source{Kind: "default"},
	}
	if kind == secret.OfKey {
		q.User = ""
	}
	if h.derived() {
		return q
	}
	q.Profile, q.Setting, q.Folder = h.Of.Owner(), h.Of.Key(key.Name(k)), h.Of.Folder()
	q.Project, q.Pinned, q.Recheck = h.Of.Project(), h.Of.PinnedFiles(), h.Of.Recheck()
	if kind == secret.OfHop {
		q.Address = h.Of.BoundWord()
	}
	if text := h.Of.Text(key.Name(k)); text != "" {
		q.Source, _ = secret.ParseSource(text)
		q.Command = h.Of.Command(key.Name(k))
	}
	return q
}

// take finds and takes a secret. A missing one is no error.
func (d *Dialer) take(ctx context.Context, q secret.Query) (secret.Value, string, error) {
	located, err := d.locate(ctx, q)
	if err != nil {
		return secret.Value{}, "", err
	}
	if located.Read == nil {
		return secret.Value{}, "", nil
	}
	if value, ok := d.Secrets.value(q); ok {
		return value, located.Place, nil
	}
	resume := d.pause()
	defer resume()
	value, err := located.Take(ctx)
	if err == nil {
		d.Secrets.keep(q, value)
	}
	return value, located.Place, err
}

func (d *Dialer) locate(ctx context.Context, q secret.Query) (*secret.Location, error) {
	located, found := d.Finder.Locate(ctx, q)
	if located == nil {
		return nil, &secret.Failure{Found: found}
	}
	if located.Asks && d.Unattended && q.Source.Kind == "default" {
		return &secret.Location{Place: "none found", None: true}, nil
	}
	return located, nil
}
