// Package wire is the instance service as it goes over the wire: the requests, the answers and the problems, as JSON,
// each with the bounds that an answer must keep. docs/cloud-service.md has the same for people, and the JSON schemas
// beside it for programs. It knows neither HTTP nor programs; package cloud sends what is made here. Start with
// Request, and Read for an answer.
package wire

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/profile/cloudref"
	"gentleharbor/core/profile/syntax"
)

// Format is the number of the interface, which each answer repeats.
const Format = 1

// The bounds of what a service may send. They are far above what the largest providers have.
const (
	MaxBody   = 1 << 20 // bytes of one answer
	maxPage   = 1000    // instances or rules of one page
	MaxPages  = 200     // pages of one list
	maxPeople = 200     // characters of a name of a person or of a text for people
	maxList   = 100     // branches, addresses or features of one instance
	maxPEM    = 64 << 10
	maxSecret = 4 << 10 // bytes of a password: tokens that serve as one have up to 3 KiB
	MaxLife   = 24 * time.Hour
)

// Request is one request: what is asked of a service over HTTPS, or of a program in a line.
type Request struct {
	Method string      `json:"method"` // "GET", "POST", "PUT", "DELETE"
	Path   string      `json:"path"`   // below the service's URL: "/instances"
	Query  [][2]string `json:"query,omitempty"`
	Body   any         `json:"body,omitempty"`

	// Key makes a request that changes something safe to send twice: the service does it once.
	Key string `json:"idempotency_key,omitempty"`
}

// Account is the answer to GET /account: who asks, and what that account may do.
type Account struct {
	Format   int       `json:"format"`
	Account  string    `json:"account"`            // the name of a person or machine
	Rights   []string  `json:"rights"`             // words of Rights
	Address  string    `json:"address,omitempty"`  // the IP address that the service sees
	Until    time.Time `json:"until,omitzero"`     // when the account's access ends by itself
	Features []Feature `json:"features,omitempty"` // of the account as a whole
}

// Rights are what an account may be allowed to do.
var Rights = []string{"look", "switch", "allow", "wake", "login", "first-password"}

// Instances is a page of instances; more follow where the answer names a next page.
type Instances struct {
	Format    int        `json:"format"`
	Instances []Instance `json:"instances"`
}

// Instance is a server that the service rents out.
type Instance struct {
	Name    string `json:"name"`
	Engine  string `json:"engine"`
	Version string `json:"version,omitempty"`
	Region  string `json:"region,omitempty"`
	Place
	Branches []Branch `json:"branches,omitempty"`
}

// Branch is a copy of an instance with a name and a place of its own.
type Branch struct {
	Name string `json:"name"`
	Place
}

// Place is what an instance and each of its branches has.
type Place struct {
	State         State     `json:"state"`
	Addresses     []Address `json:"addresses,omitempty"`
	Authority     string    `json:"authority,omitempty"` // PEM of the certificates to trust; "" for the public ones
	Database      string    `json:"database,omitempty"`  // that a connection most likely wants
	Login         LoginKind `json:"login,omitempty"`     // what can be minted, "" for nothing
	FirstPassword string    `json:"first_password,omitempty"`
	Features      []Feature `json:"features,omitempty"`
	Access        *Access   `json:"access,omitempty"` // nil where the network is open
}

// State reports whether an instance serves.
type State string

// The states of an instance.
const (
	Running  State = "running"
	Paused   State = "paused"
	Starting State = "starting"
	Stopped  State = "stopped"
	Failed   State = "failed"
)

// LoginKind says what a login is.
type LoginKind string

// The kinds of login.
const (
	ByPassword    LoginKind = "password"
	ByCertificate LoginKind = "certificate"
)

// FirstUnset is the FirstPassword of an instance whose administrator has none yet.
const FirstUnset = "unset"

// Address is where an instance is reached.
type Address struct {
	Kind    AddressKind `json:"kind"`
	Host    string      `json:"host"`
	Port    int         `json:"port"`
	TLSName string      `json:"tls_name,omitempty"` // that the certificate is for, "" for the host
}

// AddressKind says from where an address is reached.
type AddressKind string

// The kinds of address.
const (
	Public  AddressKind = "public"  // from everywhere
	Private AddressKind = "private" // from the provider's network, where a jump host stands
)

// Feature is something that can be switched on and off.
type Feature struct {
	Name   string `json:"name"`
	On     bool   `json:"on"`
	Needed bool   `json:"needed,omitempty"` // without it no connection is let in
	About  string `json:"about,omitempty"`
}

// Access is the state of the network in front of an instance, for whoever asks.
type Access struct {
	Address string    `json:"address"` // the IP address that the service sees
	Rule    RuleState `json:"rule"`
}

// RuleState reports whether a rule lets anybody in yet.
type RuleState string

// The states of a rule. NoRule is one of an Access alone.
const (
	NoRule  RuleState = "none"
	Pending RuleState = "pending"
	InForce RuleState = "in-force"
)

// Rule lets an address or a range in.
type Rule struct {
	ID    string    `json:"id"`
	Range string    `json:"range"` // CIDR
	State RuleState `json:"state"` // Pending or InForce
	By    string    `json:"by,omitempty"`
	Note  string    `json:"note,omitempty"`
	Until time.Time `json:"until,omitzero"` // zero for one without an end
}

// Rules is a page of rules.
type Rules struct {
	Format int    `json:"format"`
	Rules  []Rule `json:"rules"`
}

// Login is a login that the service made for a short time.
type Login struct {
	Instance    string    `json:"instance"`
	Branch      string    `json:"branch,omitempty"`
	User        string    `json:"user"`
	Password    string    `json:"password,omitempty"`
	Certificate string    `json:"certificate,omitempty"` // PEM, with its chain
	Key         string    `json:"key,omitempty"`         // PEM
	Until       time.Time `json:"until"`
}

// String keeps a login out of whatever it is printed with.
func (Login) String() string { return "[hidden]" }

// GoString is String.
func (Login) GoString() string { return "[hidden]" }

// First is a first password, which the service gives out once.
type First struct {
	Instance string `json:"instance"`
	Branch   string `json:"branch,omitempty"`
	User     string `json:"user"`
	Password string `json:"password"`
}

// String keeps a password out of whatever it is printed with.
func (First) String() string { return "[hidden]" }

// GoString is String.
func (First) GoString() string { return "[hidden]" }

// answer is an answer that can be checked.
type answer interface{ problem() string }

// Read reads an answer and checks every bound of it. The error says what is wrong, and repeats nothing of the answer.
// Members that are not known here are passed over.
func Read(data []byte, into any) error {
	if len(data) > MaxBody {
		return fmt.Errorf("the answer is larger than %d MiB", MaxBody>>20)
	}
	if err := json.Unmarshal(data, into); err != nil {
		return errors.New("the answer is not the JSON that was expected" + placeOf(err))
	}
	if a, ok := into.(answer); ok {
		if why := a.problem(); why != "" {
			return errors.New(why)
		}
	}
	return nil
}

// placeOf names the member that does not fit, without its value.
func placeOf(err error) string {
	var wrong *json.UnmarshalTypeError
	if errors.As(err, &wrong) && wrong.Field != "" && plain(wrong.Field, maxPeople) {
		return fmt.Sprintf(": %s is not %s", wrong.Field, wrong.Type.Kind())
	}
	return ""
}

// plain reports whether a text is UTF-8 without control characters and not longer than so many bytes.
func plain(s string, most int) bool {
	return len(s) <= most && !syntax.HasControl(s) && strings.ToValidUTF8(s, "") == s
}

func formatProblem(format int) string {
	if format != Format {
		return fmt.Sprintf("format is %d; this gharbor reads %d", format, Format)
	}
	return ""
}

func (a *Account) problem() string {
	_, err := netip.ParseAddr(a.Address)
	switch {
	case a.Format != Format:
		return formatProblem(a.Format)
	case a.Account == "" || !plain(a.Account, maxPeople):
		return "account is not a name"
	case len(a.Rights) > maxList || slices.ContainsFunc(a.Rights, func(r string) bool { return !cloudref.ValidName(r) }):
		return "rights are not a list of words"
	case a.Address != "" && err != nil:
		return "address is not an IP address"
	}
	return featuresProblem(a.Features)
}

func (p *Instances) problem() string {
	if p.Format != Format {
		return formatProblem(p.Format)
	}
	if len(p.Instances) > maxPage {
		return fmt.Sprintf("a page has %d instances; at most %d", len(p.Instances), maxPage)
	}
	seen := make(map[string]bool)
	for i := range p.Instances {
		if why := p.Instances[i].problem(); why != "" {
			return fmt.Sprintf("instance number %d: %s", i+1, why)
		}
		if name := p.Instances[i].Name; seen[name] {
			return "the instance " + name + " is there twice"
		}
		seen[p.Instances[i].Name] = true
	}
	return ""
}

func (i *Instance) problem() string {
	switch {
	case !cloudref.ValidName(i.Name):
		return "its name is not one of letters, digits, dots, dashes and underscores"
	case !plain(i.Engine, 60) || !plain(i.Version, 60) || !plain(i.Region, 60):
		return "engine, version or region is not a short text"
	case len(i.Branches) > maxList:
		return fmt.Sprintf("it has %d branches; at most %d", len(i.Branches), maxList)
	}
	seen := make(map[string]bool)
	for _, b := range i.Branches {
		if !cloudref.ValidName(b.Name) || seen[b.Name] {
			return "the name of a branch is not one of letters, digits, dots, dashes and underscores, or is there twice"
		}
		seen[b.Name] = true
		if why := b.Place.problem(); why != "" {
			return "branch " + b.Name + ": " + why
		}
	}
	return i.Place.problem()
}

func (p *Place) problem() string {
	if !slices.Contains([]State{Running, Paused, Starting, Stopped, Failed}, p.State) {
		return "state is none of running, paused, starting, stopped, failed"
	}
	if len(p.Addresses) > maxList {
		return fmt.Sprintf("it has %d addresses; at most %d", len(p.Addresses), maxList)
	}
	for _, a := range p.Addresses {
		switch {
		case a.Kind != Public && a.Kind != Private:
			return "the kind of an address is neither public nor private"
		case !syntax.ValidHost(a.Host) || a.TLSName != "" && !syntax.ValidHost(a.TLSName):
			return "an address has no usable host name"
		case a.Port < 1 || a.Port > 65535:
			return "an address has no usable port"
		}
	}
	switch {
	case len(p.Authority) > maxPEM:
		return fmt.Sprintf("authority is larger than %d KiB", maxPEM>>10)
	case p.Login != "" && p.Login != ByPassword && p.Login != ByCertificate:
		return "login is neither password nor certificate"
	case p.FirstPassword != "" && p.FirstPassword != FirstUnset && p.FirstPassword != "set":
		return "first_password is neither unset nor set"
	case !plain(p.Database, 128):
		return "database is not a name"
	}
	if p.Access != nil {
		if _, err := netip.ParseAddr(p.Access.Address); err != nil {
			return "access.address is not an IP address"
		}
		if !slices.Contains([]RuleState{NoRule, Pending, InForce}, p.Access.Rule) {
			return "access.rule is none of none, pending, in-force"
		}
	}
	return featuresProblem(p.Features)
}

func featuresProblem(all []Feature) string {
	if len(all) > maxList {
		return fmt.Sprintf("there are %d features; at most %d", len(all), maxList)
	}
	for i := range all {
		if why := all[i].problem(); why != "" {
			return why
		}
	}
	return ""
}

func (f *Feature) problem() string {
	if !cloudref.ValidName(f.Name) || !plain(f.About, maxPeople) {
		return "a feature has no name of letters, digits, dots, dashes and underscores, or a text that is no line"
	}
	return ""
}

func (r *Rule) problem() string {
	_, err := netip.ParsePrefix(r.Range)
	switch {
	case !cloudref.ValidName(r.ID):
		return "the id of a rule is not one of letters, digits, dots, dashes and underscores"
	case err != nil:
		return "the range of a rule is not an IP range such as 203.0.113.7/32"
	case r.State != Pending && r.State != InForce:
		return "the state of a rule is neither pending nor in-force"
	case !plain(r.By, maxPeople) || !plain(r.Note, maxPeople):
		return "by or note of a rule is not a short line"
	}
	return ""
}

func (p *Rules) problem() string {
	if p.Format != Format {
		return formatProblem(p.Format)
	}
	if len(p.Rules) > maxPage {
		return fmt.Sprintf("a page has %d rules; at most %d", len(p.Rules), maxPage)
	}
	for i := range p.Rules {
		if why := p.Rules[i].problem(); why != "" {
			return fmt.Sprintf("rule number %d: %s", i+1, why)
		}
	}
	return ""
}

func (l *Login) problem() string {
	certificate := l.Certificate != "" || l.Key != ""
	switch {
	case l.User == "" || !plain(l.User, 128):
		return "the login has no usable user"
	case (l.Password != "") == certificate:
		return "the login has neither a password nor a certificate, or both"
	case certificate && (l.Certificate == "" || l.Key == ""):
		return "the login's certificate has no key, or the key no certificate"
	case !plain(l.Password, maxSecret) || len(l.Certificate) > maxPEM || len(l.Key) > maxPEM:
		return "the login's password, certificate or key is too long"
	case l.Until.IsZero():
		return "the login does not say when it ends"
	}
	return ""
}

func (f *First) problem() string {
	if f.User == "" || !plain(f.User, 128) || f.Password == "" || !plain(f.Password, maxSecret) {
		return "the first password has no usable user or password"
	}
	return ""
}
