package resolve

import (
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/hostname"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
)

// SRVDomain is the domain that SRV records are asked of: what a certificate of the
// service must be for, as the servers' own names come from DNS.
func SRVDomain(srv string) string {
	parts := strings.SplitN(strings.TrimSuffix(srv, "."), ".", 3)
	return parts[len(parts)-1]
}

// Chain is an alias with those that it names in turn; the last says where the
// service lives.
type Chain struct {
	Links   []*profile.Alias
	Ignored []string // options of a service file that have no meaning here

	Pinned map[string][]byte // the files of project's aliases, as they were vouched for, by path
}

// Own returns what the first link that sets a key sets it to.
func (c *Chain) Own(name key.Name) (profile.Entry, *profile.Alias, bool) {
	if c == nil {
		return profile.Entry{}, nil, false
	}
	for _, link := range c.Links {
		if e, ok := link.Own(name); ok {
			return e, link, true
		}
	}
	return profile.Entry{}, nil, false
}

// Text is the value of a key as text, "" where no link sets it.
func (c *Chain) Text(name key.Name) string {
	e, _, _ := c.Own(name)
	return e.Value.Text()
}

// Names are the links' names, as Called gives them.
func (c *Chain) Names() []string {
	if c == nil {
		return nil
	}
	names := make([]string, len(c.Links))
	for i, link := range c.Links {
		names[i] = link.Called()
	}
	return names
}

// ConnectTimeout is how long one address may take to accept, 0 where nothing was
// said.
func (c *Chain) ConnectTimeout() time.Duration {
	d, _ := time.ParseDuration(c.Text(key.ConnectTimeout))
	return d
}

// Retries is how often all addresses are tried again.
func (c *Chain) Retries() int {
	n, _ := strconv.Atoi(c.Text(key.Retries))
	return n
}

// Addresses are the servers that the chain lists itself. port is for those without
// one of their own.
func (c *Chain) Addresses(port int) []HostPort {
	e, _, ok := c.Own(key.Addresses)
	if !ok {
		return nil
	}
	return hostPorts(e.Value.List(), port)
}

func hostPorts(items []string, common int) []HostPort {
	var hosts []HostPort
	for _, item := range items {
		host, port := hostname.SplitPort(item)
		n, err := strconv.Atoi(port)
		if err != nil {
			n = common
		}
		hosts = append(hosts, HostPort{host, n})
	}
	return hosts
}
