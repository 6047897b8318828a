package base

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"path/filepath"
	"strconv"

	"gentleharbor/core/address"
	"gentleharbor/core/cloud"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/finding"
	"gentleharbor/core/privatesocket"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/core/wallet"
)

// Clouds are the cloud accounts of this user and of the project, made once for the whole run.
func (c *Call) Clouds() (*cloud.Accounts, error) {
	if c.clouds != nil {
		return c.clouds, nil
	}
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	h, err := c.Home()
	if err != nil {
		return nil, err
	}
	finder, err := c.Finder()
	if err != nil {
		return nil, err
	}
	home := c.Environment().Home
	c.clouds = &cloud.Accounts{
		File:    file,
		Home:    home,
		Dial:    c.dialWritten,
		Secrets: finder,
		Vouch: func(one *profile.Cloud) (map[string][]byte, *finding.Finding) {
			return c.Vouched.JudgeCloud(one, home)
		},
		Tokens: tokens.Store{
			Folder: filepath.Join(h.Dir, "cloud"),
			Memory: c.memory,
		},
	}
	c.clouds.Tokens.Key = func(ctx context.Context, of tokens.Owner, at tokens.KeyPlace) (secret.Value, error) {
		account := cloud.Account{Called: of.Name}
		located, found := finder.Locate(ctx, account.KeyQuery(of, at))
		if located == nil {
			return secret.Value{}, &secret.Failure{Found: found}
		}
		return located.Take(ctx)
	}
	return c.clouds, nil
}

// CloudSession is a cloud account by its name.
func (c *Call) CloudSession(name string) (*cloud.Session, error) {
	all, err := c.Clouds()
	if err != nil {
		return nil, err
	}
	s, found := all.Session(name)
	if found == nil {
		return s, nil
	}
	if found.Code == finding.CloudUnknownAccount {
		return nil, all.File.MissingCloud(name)
	}
	return nil, CloudFailed(found)
}

// CloudFailed is a command's error for a finding of a cloud account: exit code 4 where nobody is signed in, else 5.
func CloudFailed(found *finding.Finding) error {
	code := ExitServer
	if found.Is(finding.CloudNotSignedIn, finding.CloudSignInExpired) || found.Code.Area() != "cloud" {
		code = ExitSecret
	}
	return FindingError(code, &secret.Failure{Found: found}, found)
}

// ExpectClouds makes one request to the service of each cloud account for all instances of profiles. With once, its
// answer is used for the whole run.
func (c *Call) ExpectClouds(profiles []*resolve.Profile, once bool) {
	var refs []cloudref.Ref
	for _, p := range profiles {
		if p.Address().InCloud() && p.Vouched() {
			refs = append(refs, address.CloudOf(p))
		}
	}
	if len(refs) == 0 {
		return
	}
	if all, err := c.Clouds(); err == nil {
		all.Expect(refs)
		all.Once = once
	}
}

// memory is the process that keeps the wallet unlocked, which also keeps tokens; nil where there is none.
func (c *Call) memory(ctx context.Context) tokens.Memory {
	s, _, err := c.Store("")
	if err != nil {
		return nil
	}
	f, err := wallet.Load(s.Path)
	if err != nil {
		return nil
	}
	u := wallet.UnlockedSource{Socket: wallet.KeeperSocket(c.Lookup, f.ID())}
	if _, err := u.Status(ctx); err != nil && !errors.As(err, new(*privatesocket.SilentError)) {
		return nil
	}
	return u
}

// dialWritten connects to a host and port as to a profile's address: [hosts] comes before DNS.
func (c *Call) dialWritten(ctx context.Context, network, at string) (net.Conn, error) {
	n := route.System()
	host, text, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	given, ok := c.Book.UserHost(host)
	if !ok {
		return n.Dial(ctx, network, at)
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return nil, err
	}
	var last error
	for _, addr := range given.Addresses {
		conn, err := n.Dial(ctx, network, netip.AddrPortFrom(addr, uint16(port)).String())
		if err == nil {
			return conn, nil
		}
		last = err
	}
	return nil, last
}
