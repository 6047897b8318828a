package wire

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile/cloudref"
)

// Problem is a request that was not carried out, as RFC 9457 has it, with the members of our own types.
type Problem struct {
	Type   string `json:"type"` // a URN: Prefix and a Kind
	Title  string `json:"title,omitempty"`
	Status int    `json:"status,omitempty"`
	Detail string `json:"detail,omitempty"`

	Feature string `json:"feature,omitempty"` // of feature-off: what to switch on
	Right   string `json:"right,omitempty"`   // of no-right: what the account lacks
	Address string `json:"address,omitempty"` // of not-allowed and rule-pending: the IP address that the service sees
}

// Prefix begins the type of every problem of ours.
const Prefix = "urn:gentle-harbor:cloud:"

// Kind is the type of a problem, without Prefix.
type Kind string

// The kinds of problem.
const (
	NotSignedIn     Kind = "not-signed-in"     // 401: there is no token, or it is not valid (any more)
	NoRight         Kind = "no-right"          // 403: the account may not do that
	Unknown         Kind = "unknown"           // 404: there is no such instance, branch, feature or rule
	PausedProblem   Kind = "paused"            // 409: the instance must be woken first
	StartingProblem Kind = "starting"          // 409: the instance starts; the same request works later
	FeatureOff      Kind = "feature-off"       // 409: a feature must be switched on first
	NotAllowed      Kind = "not-allowed"       // 403: no rule lets this address in
	RulePending     Kind = "rule-pending"      // 409: the rule that lets it in is not in force yet
	AlreadySet      Kind = "already-set"       // 409: the first password was given out already
	Invalid         Kind = "invalid"           // 400 or 422: the request is not understood
	TooMany         Kind = "too-many-requests" // 429
	Unavailable     Kind = "unavailable"       // 503
)

// Kinds lists the kinds of problem.
func Kinds() []Kind {
	return []Kind{NotSignedIn, NoRight, Unknown, PausedProblem, StartingProblem, FeatureOff, NotAllowed, RulePending,
		AlreadySet, Invalid, TooMany, Unavailable}
}

// byStatus is what a status means where the answer has no problem of ours: a service stands behind gateways that
// answer in its place.
var byStatus = map[int]Kind{400: Invalid, 401: NotSignedIn, 403: NoRight, 404: Unknown, 422: Invalid, 429: TooMany,
	502: Unavailable, 503: Unavailable, 504: Unavailable}

// ReadProblem reads the problem of an answer with an error's status. An answer that is none becomes one by its status.
func ReadProblem(status int, body []byte) *Problem {
	p := &Problem{}
	if len(body) > MaxBody || json.Unmarshal(body, p) != nil {
		p = &Problem{}
	}
	p.Status = status
	if !slices.Contains(Kinds(), p.Kind()) {
		p.Type = Prefix + string(byStatus[status])
	}
	p.Title, p.Detail = clean.Line(p.Title, maxPeople), clean.Line(p.Detail, 2*maxPeople)
	if !cloudref.ValidName(p.Feature) {
		p.Feature = ""
	}
	if !cloudref.ValidName(p.Right) {
		p.Right = ""
	}
	if _, err := netip.ParseAddr(p.Address); err != nil {
		p.Address = ""
	}
	return p
}

// Problems reports whether an answer says itself which problem of ours it is.
func Problems(body []byte) bool {
	var p Problem
	return json.Unmarshal(body, &p) == nil && slices.Contains(Kinds(), p.Kind())
}

// Kind is the type without Prefix, "" where it is none of ours.
func (p *Problem) Kind() Kind {
	kind, ok := strings.CutPrefix(p.Type, Prefix)
	if !ok {
		return ""
	}
	return Kind(kind)
}

// Error is the problem in a line, for a log.
func (p *Problem) Error() string {
	text := string(p.Kind())
	if text == "" {
		text = "no problem of the instance service"
	}
	for _, more := range []string{p.Title, p.Detail} {
		if more != "" {
			text += ": " + more
		}
	}
	return text
}
