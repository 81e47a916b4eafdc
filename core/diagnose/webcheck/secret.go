package webcheck

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/untrusted"
)

// Sent is the secret that git would send, and where it was found.
type Sent struct {
	gitlink.Credential
	From string // empty for git's helpers
}

// Where names where the secret was found.
func (s Sent) Where() string { return cmp.Or(s.From, "git's helpers") }

// credential asks whom git would ask for what it would send: the URL; the netrc file, which its library reads
// before git asks anybody; and, where that is refused or says nothing, its helpers in its order, then the
// program that asks the person. It goes to the origin that it was found for alone. What was found is returned even
// where it may not be sent.
func (s Settled) credential(ctx context.Context, refused int) (Sent, origin.Bound, error) {
	if s.Hg != nil {
		return s.hgCredential(refused)
	}
	if sent := s.Request.Sent; sent != nil && s.Base.Scheme == "https" {
		if refused > 0 {
			return Sent{}, origin.Bound{}, gitlink.ErrNoCredential
		}
		token, err := sent.Token.ToOrigin(s.Base)
		return Sent{gitlink.Credential{User: sent.User, Password: token}, "the chest"}, sent.Token, err
	}
	for _, source := range s.secretSources()[refused:] {
		if found, from, err := source(ctx); err == nil {
			return s.sendHere(Sent{found, from})
		}
	}
	return Sent{}, origin.Bound{}, gitlink.ErrNoCredential
}

type secretSource func(context.Context) (found gitlink.Credential, from string, err error)

// secretSources are where git gets a secret from, in its order.
func (s Settled) secretSources() []secretSource {
	if !s.WebSecret.Empty() {
		return []secretSource{func(context.Context) (gitlink.Credential, string, error) {
			return gitlink.Credential{User: s.WebUser, Password: s.WebSecret}, "the URL", nil
		}, noSource}
	}
	var list []secretSource
	if entry, found := plainsecrets.NetrcFor(s.Station, s.Base.Hostname(), s.WebUser); found {
		list = append(list, func(context.Context) (gitlink.Credential, string, error) {
			return gitlink.Credential{User: entry.User, Password: entry.Secret},
				s.Station.Tilde(entry.File) + ":" + strconv.Itoa(entry.Line), nil
		})
	}
	asked := gitlink.Credential{Protocol: s.Base.Scheme, Host: s.Base.Host, Path: strings.TrimPrefix(s.Base.Path, "/"),
		User: s.WebUser}
	list = append(list, func(ctx context.Context) (gitlink.Credential, string, error) {
		if found, err := gitlink.FillBoth(ctx, s.Config.Asked(), asked); err == nil {
			return found, "", nil
		}
		found, err := s.Config.FillByAsking(ctx, asked)
		program, origin := s.Config.AskPass()
		return found, "the program by which git asks, " + untrusted.Clean(program) + " (" +
			s.Station.Tilde(origin) + ")", err
	})
	return append(list, noSource)
}

// mostOthers bounds how many secrets for other users are named.
const mostOthers = 3

// forOthers names the secrets for this host that are here, and that git does not send because the URL names another
// user.
func (s Settled) forOthers() []finding.Evidence {
	if s.WebUser == "" {
		return nil
	}
	var list []finding.Evidence
	add := func(user, where string) {
		if user != "" && user != s.WebUser && len(list) < mostOthers {
			list = append(list, finding.Saw(seen.StoredFor, untrusted.Clean(user)+", and the URL names "+
				untrusted.Clean(s.WebUser), where))
		}
	}
	kept, _ := chest.Of(s.Station).At("https", allow.LowerHost(s.Base.Host)) // what is damaged answers nobody
	for _, e := range kept {
		add(e.User, "the chest, "+e.Name)
	}
	for _, stray := range append(plainsecrets.InStore(s.Station, s.Config), plainsecrets.InNetrc(s.Station)...) {
		if allow.SameHost(stray.At, s.Base.Host) {
			add(stray.User, s.Station.Tilde(stray.File)+":"+strconv.Itoa(stray.Line))
		}
	}
	return list
}

// noSource ends the list.
func noSource(context.Context) (gitlink.Credential, string, error) {
	return gitlink.Credential{}, "", gitlink.ErrNoCredential
}

// sendHere binds what was found to the present address: it goes to no other. Over plain http it goes nowhere.
func (s Settled) sendHere(sent Sent) (Sent, origin.Bound, error) {
	bound := origin.Bind(sent.Password, origin.Place{Origin: origin.Of(s.Base)})
	if _, err := bound.ToOrigin(s.Base); err != nil {
		return sent, origin.Bound{}, err
	}
	return sent, bound, nil
}

// hgCredential is what hg would send without asking anybody.
func (s Settled) hgCredential(refused int) (Sent, origin.Bound, error) {
	if refused > 0 {
		return Sent{}, origin.Bound{}, gitlink.ErrNoCredential
	}
	sent := Sent{gitlink.Credential{User: s.WebUser, Password: s.WebSecret}, "the URL"}
	if s.WebSecret.Empty() {
		found, from := s.Hg.Credential(s.Base, s.WebUser)
		sent = Sent{found, "the group of [auth] at " + s.Station.Tilde(from)}
	}
	if sent.Password.Empty() {
		return sent, origin.Bound{}, gitlink.ErrNoCredential
	}
	return s.sendHere(sent)
}

// headers are those that settings add to each request, and the cookies that a file of theirs holds for it. They
// may carry a secret, so they go neither where nothing protects them, nor on to another origin.
func (t Travelled) headers() []string {
	if t.Base.Scheme != "https" || t.crossed {
		return nil
	}
	list := t.Web.Headers
	if t.Web.CookieFile != "" {
		// git passes over one that is not there
		text, _ := regular.Read(gitlink.Pathname(t.Station, t.Web.CookieFile), regular.Settings)
		if cookies := gitlink.Cookies(string(text), t.Base, t.Station.Now()); cookies != "" {
			list = append(slices.Clone(list), "Cookie: "+cookies)
		}
	}
	return list
}

// API speaks to the host's API with what was shown to it for git; nil where that was nothing.
func (t Travelled) API() *hostapi.Client {
	if t.Host == nil || t.Sent.Password.Empty() {
		return nil
	}
	return t.interfaceOf()
}

// interfaceOf speaks to the host's interface as whoever git would sign in as: with a token of the
// chest's if it was kept for that, else only where the interface is at the very place to which git
// itself would send the secret.
func (t Travelled) interfaceOf() *hostapi.Client {
	token := origin.Bind(t.Sent.Password, origin.Place{Origin: origin.Of(t.Base),
		Address: t.Web.At, Authority: origin.Authority(string(t.roots))})
	for _, e := range t.keptHere() {
		if kept, err := chest.Of(t.Station).Get(e); err == nil && kept.Token.Equal(t.Sent.Password) {
			token = kept.Bound(e)
		}
	}
	if t.Request.Sent != nil {
		token = t.Request.Sent.Token
	}
	return &hostapi.Client{Description: t.Host, Token: token, Timeout: t.Request.For()}
}
