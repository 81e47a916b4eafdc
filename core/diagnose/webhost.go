package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net/url"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// ErrNoWeb is returned for a question about a host over HTTPS where nothing says where that is.
var ErrNoWeb = errors.New("its description names no address for git over HTTPS")

// askAboutWeb asks about a host over HTTPS, without any repository.
func (c *checker) askAboutWeb(host *describe.Description) error {
	base, err := url.Parse(host.HTTPS.URL)
	if err != nil || base.Host == "" {
		return fmt.Errorf("%s: %w", host.Name, ErrNoWeb)
	}
	c.base, c.host, c.alone = base, host, true
	c.address = address.Address{Scheme: base.Scheme, Host: base.Hostname()}
	c.wantAccount()
	if c.request.Account != "" {
		c.webUser = host.GitUser(c.request.Account)
	}
	c.way.Question = Question{URL: base.String(), Host: host.Name, Transport: "https", Purpose: c.purpose(Clone)}
	c.way.stage(Repository).State, c.way.stage(Permission).State = Skipped, Skipped
	return nil
}

// greetWeb goes as far as the host's certificate, and shows the host's interface what git would
// send: no repository is asked for by which git could sign in.
func (c *checker) greetWeb(ctx context.Context) (*Crux, error) {
	plan := c.webPlan(ctx)
	plan.Service = ""
	trip, err := wire.GoWeb(ctx, plan)
	c.passedWeb(trip)
	var failure *wire.Failure
	switch {
	case errors.As(err, &failure):
		return c.explainWeb(ctx, failure, trip), nil
	case err != nil:
		return nil, err
	}
	c.way.open(Trust, trip.Times[wire.AtTrust])
	trip.Schemes = []string{"basic"} // the description says that tokens are taken
	if trip.User, _, trip.NoSecret = c.credential(ctx, 0); trip.NoSecret != nil {
		return c.explainToken(ctx, trip), nil
	}
	return c.showSecret(ctx, trip)
}

// showSecret asks the host's interface what it thinks of the secret that git would send.
func (c *checker) showSecret(ctx context.Context, trip *wire.WebTrip) (*Crux, error) {
	w := c.way
	account, err := c.interfaceOf().Who(ctx)
	var refusal *hostapi.Refusal
	switch {
	case errors.Is(err, hostapi.ErrNoOperation), errors.Is(err, origin.ErrElsewhere):
		w.stage(SignIn).State = Skipped
		return nil, nil
	case errors.As(err, &refusal):
		trip.Answer.Words = refusal.Words
		return c.explainToken(ctx, trip), nil
	case err != nil:
		return nil, err
	}
	w.open(SignIn, 0)
	w.Account = untrusted.Clean(account)
	w.fact(SignIn, "token", "as "+untrusted.Clean(trip.User)+", from "+c.secretFrom(), "")
	w.fact(SignIn, "account", w.Account, "the interface of "+c.host.Name)
	sent := Evidence{"signed in as", w.Account, "the interface of " + c.host.Name}
	if c.request.Account != "" && c.request.Account != w.Account {
		return crux("token-misplaced", Proved, sent, Evidence{"needed", c.request.Account, ""}), nil
	}
	if lacks := c.lacking(ctx); lacks != "" {
		return crux("token-purpose-missing", Proved, sent, Evidence{"the token may", lacks, "the interface of " + c.host.Name}), nil
	}
	return nil, nil
}
