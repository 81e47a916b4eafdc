package diagnose

import (
	"bytes"
	"context"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/untrusted"
)

// A Sent credential is shown to the host in place of what git's helpers would answer.
type Sent struct {
	User  string
	Token origin.Bound
}

// credential asks whom git would ask for what it would send: the URL; the netrc file, which its library reads
// before git asks anybody; and, where that is refused or says nothing, its helpers in its order, then the
// program that asks the person. It goes to the origin that it was found for alone.
func (c *checker) credential(ctx context.Context, refused int) (string, origin.Bound, error) {
	if c.hg != nil {
		return c.hgCredential(refused)
	}
	if sent := c.request.Sent; sent != nil && c.base.Scheme == "https" {
		if refused > 0 {
			return "", origin.Bound{}, gitlink.ErrNoCredential
		}
		token, err := sent.Token.ToOrigin(c.base)
		c.sent, c.sentFrom = gitlink.Credential{User: sent.User, Password: token}, "the chest"
		return sent.User, sent.Token, err
	}
	for _, source := range c.secretSources()[refused:] {
		if found, from, err := source(ctx); err == nil {
			c.sent, c.sentFrom = found, from
			return c.sendHere()
		}
	}
	return "", origin.Bound{}, gitlink.ErrNoCredential
}

type secretSource func(context.Context) (found gitlink.Credential, from string, err error)

// secretSources are where git gets a secret from, in its order.
func (c *checker) secretSources() []secretSource {
	if !c.webSecret.Empty() {
		return []secretSource{func(context.Context) (gitlink.Credential, string, error) {
			return gitlink.Credential{User: c.webUser, Password: c.webSecret}, "the URL", nil
		}, noSource}
	}
	var list []secretSource
	if entry, found := plainsecrets.NetrcFor(c.station, c.base.Hostname(), c.webUser); found {
		list = append(list, func(context.Context) (gitlink.Credential, string, error) {
			return gitlink.Credential{User: entry.User, Password: entry.Secret}, c.station.Tilde(entry.File) + ":" + strconv.Itoa(entry.Line), nil
		})
	}
	asked := gitlink.Credential{Protocol: c.base.Scheme, Host: c.base.Host, Path: strings.TrimPrefix(c.base.Path, "/"), User: c.webUser}
	list = append(list, func(ctx context.Context) (gitlink.Credential, string, error) {
		if found, err := gitlink.FillBoth(ctx, c.config.Asked(), asked); err == nil {
			return found, "", nil
		}
		found, err := c.config.FillByAsking(ctx, asked)
		program, origin := c.config.AskPass()
		return found, "the program by which git asks, " + untrusted.Clean(program) + " (" + c.station.Tilde(origin) + ")", err
	})
	return append(list, noSource)
}

// noSource ends the list.
func noSource(context.Context) (gitlink.Credential, string, error) {
	return gitlink.Credential{}, "", gitlink.ErrNoCredential
}

// sendHere is what was found for the present address, which goes to no other. Over plain http it goes
// nowhere.
func (c *checker) sendHere() (string, origin.Bound, error) {
	bound := origin.Bind(c.sent.Password, origin.Place{Origin: origin.Of(c.base)})
	if _, err := bound.ToOrigin(c.base); err != nil {
		return c.sent.User, origin.Bound{}, err
	}
	return c.sent.User, bound, nil
}

// hgCredential is what hg would send without asking anybody.
func (c *checker) hgCredential(refused int) (string, origin.Bound, error) {
	if refused > 0 {
		return "", origin.Bound{}, gitlink.ErrNoCredential
	}
	if !c.webSecret.Empty() {
		c.sentFrom = "the URL"
		c.sent = gitlink.Credential{User: c.webUser, Password: c.webSecret}
	} else {
		var from string
		c.sent, from = c.hg.Credential(c.base, c.webUser)
		c.sentFrom = "the group of [auth] at " + c.station.Tilde(from)
	}
	if c.sent.Password.Empty() {
		return "", origin.Bound{}, gitlink.ErrNoCredential
	}
	return c.sendHere()
}

// headers are those that settings add to each request, and the cookies that a file of theirs holds for it. They
// may carry a secret, so they go neither where nothing protects them, nor on to another origin.
func (c *checker) headers() []string {
	if c.base.Scheme != "https" || c.crossed {
		return nil
	}
	list := c.web.Headers
	if c.web.CookieFile != "" {
		text, _ := regular.Read(gitlink.Pathname(c.station, c.web.CookieFile), regular.Settings) // git passes over one that is not there
		if cookies := gitlink.Cookies(string(text), c.base, c.station.Now()); cookies != "" {
			list = append(slices.Clone(list), "Cookie: "+cookies)
		}
	}
	return list
}

// interfaceOf speaks to the host's interface as whoever git would sign in as: with a token of the
// chest's if it was kept for that, else only where the interface is at the very place to which git
// itself would send the secret.
func (c *checker) interfaceOf() *hostapi.Client {
	token := origin.Bind(c.sent.Password, origin.Place{Origin: origin.Of(c.base), Address: c.web.At, Authority: origin.Authority(string(c.roots))})
	for _, e := range c.keptHere() {
		if kept, err := chest.Of(c.station).Get(e); err == nil && bytes.Equal(kept.Token.Reveal(), c.sent.Password.Reveal()) {
			token = kept.Bound(e)
		}
	}
	if c.request.Sent != nil {
		token = c.request.Sent.Token
	}
	return &hostapi.Client{Description: c.host, Token: token, Timeout: c.timeout()}
}

// secretFrom names where the secret that was sent stands.
func (c *checker) secretFrom() string {
	if c.sentFrom != "" {
		return c.sentFrom
	}
	return "git's helpers"
}
