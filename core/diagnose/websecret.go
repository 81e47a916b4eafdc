package diagnose

import (
	"bytes"
	"context"
	"strconv"
	"strings"

	"Unicrux/core/allow"
	"Unicrux/core/chest"
	"Unicrux/core/gitlink"
	"Unicrux/core/origin"
	"Unicrux/core/speak"
	"Unicrux/core/stray"
)

// A Sent credential is shown to the host in place of what git's helpers would answer.
type Sent struct {
	User  string
	Token origin.Bound
}

// credential asks whom git would ask for what it would send: the URL, the netrc file that its
// library reads, its helpers in its order. It goes to the origin that it was found for alone.
func (c *checker) credential(ctx context.Context) (string, origin.Bound, error) {
	if c.hg != nil {
		return c.hgCredential()
	}
	if sent := c.request.Sent; sent != nil && c.base.Scheme == "https" {
		token, err := sent.Token.ToOrigin(c.base)
		c.sent, c.sentFrom = gitlink.Credential{User: sent.User, Password: token}, "the chest"
		return sent.User, sent.Token, err
	}
	asked := gitlink.Credential{Protocol: c.base.Scheme, Host: c.base.Host, Path: strings.TrimPrefix(c.base.Path, "/"), User: c.webUser, Password: c.webSecret}
	credential, err := gitlink.FillBoth(ctx, c.config.Asked(), asked)
	switch {
	case !c.webSecret.Empty():
		c.sentFrom = "the URL"
	case err != nil:
		for _, entry := range stray.InNetrc(c.station) {
			if entry.At == allow.LowerHost(c.base.Hostname()) && (c.webUser == "" || c.webUser == entry.User) {
				credential, err = gitlink.Credential{User: entry.User, Password: entry.Secret}, nil
				c.sentFrom = c.station.Tilde(entry.File) + ":" + strconv.Itoa(entry.Line)
			}
		}
	}
	if err != nil {
		return "", origin.Bound{}, err
	}
	c.sent = credential
	return c.sendHere()
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
func (c *checker) hgCredential() (string, origin.Bound, error) {
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

// headers are those that settings add to each request. They may carry a secret, so they go neither
// where nothing protects them, nor on to another origin.
func (c *checker) headers() []string {
	if c.base.Scheme != "https" || c.crossed {
		return nil
	}
	return c.web.Headers
}

// interfaceOf speaks to the host's interface as whoever git would sign in as: with a token of the
// chest's if it was kept for that, else only where the interface is at the very place to which git
// itself would send the secret.
func (c *checker) interfaceOf() *speak.Client {
	token := origin.Bind(c.sent.Password, origin.Place{Origin: origin.Of(c.base), Address: c.web.At, Authority: origin.Authority(string(c.roots))})
	for _, e := range c.keptHere() {
		if kept, err := chest.Of(c.station).Get(e); err == nil && bytes.Equal(kept.Token.Reveal(), c.sent.Password.Reveal()) {
			token = kept.Bound(e)
		}
	}
	if c.request.Sent != nil {
		token = c.request.Sent.Token
	}
	return &speak.Client{Description: c.host, Token: token, Timeout: c.timeout()}
}

// secretFrom names where the secret that was sent stands.
func (c *checker) secretFrom() string {
	if c.sentFrom != "" {
		return c.sentFrom
	}
	return "git's helpers"
}
