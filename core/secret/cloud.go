package secret

import (
	"context"

	"gentleharbor/core/finding"
)

// locateCloudLogin returns the place of a login that the service of the profile's cloud instance makes when it is
// needed.
func (q Query) locateCloudLogin() (*Location, *finding.Finding) {
	if q.Mint == nil && q.Instance == "" {
		return nil, finding.New(finding.SecretMissing,
			"the login comes from a cloud, but the profile's address is no cloud instance").
			Suggest("gharbor set %s secret=ask", q.Profile)
	}
	if q.Mint == nil {
		return nil, q.KeepOrAsk(finding.New(finding.SecretMissing,
			"the service makes no logins for the instance %s", q.Instance))
	}
	return &Location{
		Place: "made at use by the service, for minutes",
		Mint:  q.Mint,
		Read: func(ctx context.Context) (Value, error) {
			login, err := q.Mint(ctx)
			if err != nil {
				return Value{}, err
			}
			return login.Password, nil
		},
	}, nil
}

// pauseKey finds what WithPause put into a context.
type pauseKey struct{}

// WithPause adds a clock to a context, which stops while a person is asked: pause stops it, and returns what starts
// it again.
func WithPause(ctx context.Context, pause func() (resume func())) context.Context {
	return context.WithValue(ctx, pauseKey{}, pause)
}

// Pause stops the clock of WithPause, where there is one. The context that it returns does not end by that clock;
// Ctrl-C, stop and all else that cancels ctx still end it.
func Pause(ctx context.Context) (resume func()) {
	if pause, ok := ctx.Value(pauseKey{}).(func() func()); ok {
		return pause()
	}
	return func() {}
}
