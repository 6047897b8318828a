package cloud

import (
	"context"
	"errors"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/oauth"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret"
)

func (s *Session) notSignedIn(why string) *finding.Finding {
	found := finding.New(finding.CloudNotSignedIn, "you are not signed in to the cloud account %s", s.Called)
	if why != "" {
		found.Saw("%s", why)
	}
	return s.suggestSignIn(found)
}

func (s *Session) explainExpiry(why string) *finding.Finding {
	return s.suggestSignIn(finding.New(finding.CloudSignInExpired, "the sign-in of the cloud account %s has ended",
		s.Called).Saw("%s", why))
}

// suggestSignIn says how to get a token: by a sign-in, or from whatever else keeps it.
func (s *Session) suggestSignIn(found *finding.Finding) *finding.Finding {
	switch {
	case s.TokenFile != "":
		return found.Suggest("ls -l %s   # does the machine write a new token?", clean.Shell(s.TokenFile))
	case s.ClientSecret.Kind != "":
		return found.Suggest("gharbor cloud show %s   # is its client-secret right?", s.Called)
	case s.Account.Issuer == "" && s.Service != "":
		return found.Advise("keep a token: gharbor cloud sign-in %s -token-stdin < FILE", s.Called).
			Advise("say who signs people in: gharbor cloud set %s issuer=URL client=ID", s.Called)
	case s.Account.Issuer == "":
		return found.Advise("sign in as the program of the account wants it: %s", clean.Quote(s.Command[0]))
	}
	return found.Suggest("gharbor cloud sign-in %s", s.Called)
}

// findingOf is the finding for an error of the issuer, of the token's file or of what holds its key.
func findingOf(err error, s *Session) *finding.Finding {
	var failure *secret.Failure
	var from *oauth.Error
	switch {
	case errors.As(err, &failure):
		return failure.Found
	case errors.As(err, &from):
		return s.issuerFinding(from)
	case errors.Is(err, context.DeadlineExceeded):
		return finding.New(finding.CloudUnreachable, "the cloud account %s could not be asked in time", s.Called).
			Suggest("gharbor cloud who %s", s.Called)
	}
	return finding.New(finding.CloudNotSignedIn, "the token of the cloud account %s can't be used", s.Called).
		Saw("%s", clean.Line(err.Error(), reasonAbout)).
		Suggest("gharbor cloud sign-in %s", s.Called)
}

// issuerFinding is the finding for an error of the issuer.
func (s *Session) issuerFinding(err *oauth.Error) *finding.Finding {
	issuer := clean.Quote(s.Account.Issuer)
	switch err.Kind {
	case oauth.Unreachable:
		return s.certificateHint(finding.New(finding.CloudUnreachable,
			"the issuer of the cloud account %s, %s, could not be asked", s.Called, issuer).
			Saw("%s", err.Text))
	case oauth.TooMany:
		return finding.New(finding.CloudTooManyRequests, "the issuer of the cloud account %s wants fewer requests", s.Called).
			Saw("%s", err.Text).Suggest("gharbor cloud who %s   # in a minute", s.Called)
	case oauth.Expired:
		return s.explainExpiry("the issuer says that " + err.Text)
	case oauth.Denied:
		return finding.New(finding.CloudNotSignedIn, "the sign-in to the cloud account %s was refused", s.Called).
			Saw("%s", err.Text).Suggest("gharbor cloud sign-in %s", s.Called)
	case oauth.Refused:
		return finding.New(finding.CloudNotSignedIn, "the issuer of the cloud account %s refuses the sign-in", s.Called).
			Saw("%s", err.Text).
			Suggest("gharbor cloud show %s   # are its client and scopes right?", s.Called)
	}
	return finding.New(finding.CloudBroken, "the issuer of the cloud account %s, %s, does not answer as it must",
		s.Called, issuer).
		Saw("%s", err.Text).
		Suggest("gharbor cloud show %s   # is its issuer right?", s.Called)
}

// certificateHint adds what to try where a certificate is not trusted.
func (s *Session) certificateHint(found *finding.Finding) *finding.Finding {
	if len(found.Seen) > 0 && strings.Contains(found.Seen[0], "certificate") {
		found.Advise("name its authority, if it has one of its own: gharbor cloud set %s tls-ca=PATH", s.Called)
	}
	if s.Service == "" && s.Account.Issuer == "" {
		return found.Suggest("gharbor cloud show %s   # is its command right?", s.Called)
	}
	return found.Suggest("gharbor cloud show %s   # are its URLs right?", s.Called)
}

// explainFailure returns the finding for a request without an answer, or with one that can't be read.
func (s *Session) explainFailure(about Subject, err error) *finding.Finding {
	var no *unreachedError
	var wrong *brokenAnswer
	switch {
	case errors.As(err, &no):
		return s.certificateHint(finding.New(finding.CloudUnreachable, "%s of the cloud account %s could not be asked",
			no.what, s.Called).Saw("%s", no.why))
	case errors.As(err, &wrong):
		return finding.New(finding.CloudBroken, "%s of the cloud account %s does not answer as its interface says",
			s.serviceName(), s.Called).
			Saw("%s", wrong.why).
			Suggest("gharbor cloud check %s", s.Called)
	}
	return finding.New(finding.CloudUnreachable, "%s of the cloud account %s could not be asked in time", s.serviceName(),
		s.Called).
		Suggest("gharbor cloud instances %s", s.Called)
}

// serviceName names what answers requests.
func (s *Session) serviceName() string {
	if s.Service == "" {
		return "the program"
	}
	return "the service"
}

// explainProblem returns the finding for a problem.
func (s *Session) explainProblem(about Subject, p *wire.Problem, after time.Duration) *finding.Finding {
	var found *finding.Finding
	switch p.Kind() {
	case wire.NotSignedIn:
		if s.token == nil && s.TokenFile == "" {
			found = s.notSignedIn("")
		} else {
			found = s.explainExpiry(s.serviceName() + " does not take the token")
		}
	case wire.NoRight:
		found = finding.New(finding.CloudNoRight, "your cloud account %s may not do that", s.Called)
		if p.Right != "" {
			found = finding.New(finding.CloudNoRight, "your cloud account %s lacks the right %s", s.Called, p.Right)
		}
		found.Suggest("gharbor cloud who %s", s.Called).
			Advise("ask the account's administrator for the right")
	case wire.Unknown:
		found = finding.New(finding.CloudUnknownInstance, "%s knows no %s, or does not do that for it", s.serviceName(),
			describe(about)).
			Suggest("gharbor cloud instances %s", s.Called)
	case wire.PausedProblem:
		found = explainPause(about, wire.Paused)
	case wire.StartingProblem:
		found = starting(about)
	case wire.FeatureOff:
		found = featureOff(about, p.Feature)
	case wire.NotAllowed:
		found = notAllowed(about, p.Address)
	case wire.RulePending:
		found = rulePending(about, p.Address)
	case wire.TooMany:
		found = finding.New(finding.CloudTooManyRequests, "%s of the cloud account %s wants fewer requests",
			s.serviceName(), s.Called)
		if after > 0 {
			found.Saw("it says to ask again in %s", after)
		}
		found.Suggest("gharbor cloud instances %s   # later", s.Called)
	case wire.Unavailable:
		found = finding.New(finding.CloudUnreachable, "%s of the cloud account %s is not available for the moment",
			s.serviceName(), s.Called)
		if after > 0 {
			found.Saw("it says to ask again in %s", after)
		}
		found.Suggest("gharbor cloud instances %s", s.Called)
	case wire.AlreadySet:
		found = finding.New(finding.CloudNoRight, "the first password of %s was given out already", describe(about)).
			Advise("ask the person who has it, or have the provider set another one")
	default:
		found = finding.New(finding.CloudBroken, "%s of the cloud account %s does not carry the request out",
			s.serviceName(), s.Called).
			Saw("it answers %d", p.Status).
			Suggest("gharbor cloud check %s", s.Called)
	}
	if text := problemText(p); text != "" {
		found.Saw("%s says %s", s.serviceName(), clean.Quote(s.withoutTokens(text)))
	}
	return found
}

// problemText is the text of a problem.
func problemText(p *wire.Problem) string {
	switch {
	case p.Detail != "":
		return p.Detail
	default:
		return p.Title
	}
}

// withoutTokens takes out of a service's text the tokens that were sent to it.
func (s *Session) withoutTokens(text string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, v := range s.sent {
		text = strings.ReplaceAll(text, textOf(v), secret.Hidden)
	}
	return text
}

// describe names what a request was about.
func describe(about Subject) string {
	switch {
	case about.Ref.Branch != "":
		return "branch " + about.Ref.Branch + " of the instance " + about.Ref.Instance
	case about.Ref.Instance != "":
		return "instance " + about.Ref.Instance
	}
	return "account " + about.Ref.Account
}

func explainPause(about Subject, state wire.State) *finding.Finding {
	found := finding.New(finding.CloudPaused, "the %s is %s", describe(about), state)
	if about.Profile != "" {
		return found.Suggest("gharbor cloud wake %s   # it may cost money", about.Profile).
			Suggest("gharbor wait %s -wake", about.Profile)
	}
	return found.Suggest("gharbor cloud wake %s   # it may cost money", about.Word())
}

func starting(about Subject) *finding.Finding {
	found := finding.New(finding.CloudStarting, "the %s is starting", describe(about))
	if about.Profile != "" {
		return found.Suggest("gharbor wait %s", about.Profile)
	}
	return found.Suggest("gharbor cloud instances %s", about.Ref.Account)
}

func featureOff(about Subject, feature string) *finding.Finding {
	found := finding.New(finding.CloudFeatureOff, "a feature that the %s needs is switched off", describe(about))
	if feature == "" {
		return found.Suggest("gharbor cloud instances %s   # its features", about.Ref.Account)
	}
	found.Cause = "the feature " + feature + ", which the " + describe(about) + " needs, is switched off"
	return found.Suggest("gharbor cloud switch-on %s %s", about.Word(), feature)
}

func notAllowed(about Subject, address string) *finding.Finding {
	found := finding.New(finding.CloudNotAllowed, "the network of the %s does not let this machine in", describe(about))
	if address != "" {
		found.Saw("the service sees this machine as %s", address)
	}
	return found.Suggest("gharbor cloud allow %s", about.Word())
}

func rulePending(about Subject, address string) *finding.Finding {
	found := finding.New(finding.CloudRulePending,
		"the rule that lets this machine in to the %s is not in force yet", describe(about))
	if address != "" {
		found.Saw("the service sees this machine as %s", address)
	}
	if about.Profile != "" {
		return found.Suggest("gharbor wait %s", about.Profile)
	}
	return found.Suggest("gharbor cloud allow %s -list", about.Word())
}
