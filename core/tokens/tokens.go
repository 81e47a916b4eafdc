// Package tokens gets tokens from hosts, proves them, keeps them in the chest, renews and revokes them.
package tokens

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [Keep], [Issue], [Renew] and the search for a token fail, for errors.Is.
var (
	ErrOwner         = fault.New("token-of-another-account", fault.Refused, "the token is another account's")
	ErrTokenUnproved = fault.New("token-unproved", fault.Refused, "the host does not accept this token")
	ErrNotToken      = fault.New("token-not-token", fault.Refused, "this is not a token")
	ErrWhichToken    = fault.New("token-which-token", fault.Misused, "there are several tokens for this host")
	ErrNoToken       = fault.New("token-no-token", fault.Refused, "the chest has no such token")
	ErrEndedToken    = errors.New("the token has expired")
	ErrRenewByHand   = fault.New("token-renew-by-hand", fault.Refused, "the host's API renews no tokens")
)

// Chest is where the secrets of this workstation are.
func Chest(p site.Site) *chest.Chest { return chest.Of(p.Station) }

// A Proven token says what the host tells about one.
type Proven struct {
	Account string   // whose it is; empty where the host does not tell
	Scopes  []string // empty where the host does not tell
	Until   time.Time
	How     string // by what it was proved; empty when it could not be
}

// Prove asks the host about a token: by its interface, or by introspection.
func Prove(ctx context.Context, p site.Site, d *describe.Description, token origin.Bound) (*Proven, error) {
	client := p.Client(d, token)
	if d.Can("who") || d.Can("show-token") {
		return proveByInterface(ctx, p, client)
	}
	if d.OAuth.Client != "" {
		server, err := oauth.Discover(ctx, d)
		if err != nil {
			return nil, err
		}
		known, err := server.Ask(ctx, token)
		switch {
		case errors.Is(err, oauth.ErrCannot), errors.Is(err, oauth.ErrRefused): // some tell only clients with a secret
		case err != nil:
			return nil, err
		case !known.Active:
			return nil, ErrTokenUnproved
		default:
			return &Proven{known.Account, known.Scopes, known.Until, "introspection"}, nil
		}
	}
	return &Proven{}, nil
}

func proveByInterface(ctx context.Context, p site.Site, client *hostapi.Client) (*Proven, error) {
	proven := &Proven{How: "the API of " + client.Description.Name}
	var err error
	if client.Description.Can("who") {
		proven.Account, err = client.Who(ctx)
		if mayNotAsk(err) { // it is known there, and may not ask whose it is: git's own request tells more
			return &Proven{}, nil
		}
		if err != nil {
			return nil, refusedToken(err)
		}
	}
	shown, err := client.ShowToken(ctx)
	var refusal *hostapi.Refusal
	switch {
	case errors.As(err, &refusal) && proven.Account != "": // it may not look at itself
	case errors.Is(err, hostapi.ErrNoOperation):
	case err != nil:
		return nil, refusedToken(err)
	default:
		proven.Scopes, proven.Until = shown.Scopes, shown.Until
		if proven.Account == "" {
			proven.Account = shown.Account
		}
	}
	return proven, nil
}

// mayNotAsk reports whether a host knows a token and does not let it ask: HTTP 403 (RFC 9110, section 15.5.4).
func mayNotAsk(err error) bool {
	var refusal *hostapi.Refusal
	return errors.As(err, &refusal) && refusal.Status == http.StatusForbidden && refusal.Means == ""
}

// refusedToken says of a refusal for want of a good token that the token is not taken.
func refusedToken(err error) error {
	var refusal *hostapi.Refusal
	if errors.As(err, &refusal) && refusal.Status == 401 {
		return errors.Join(ErrTokenUnproved, err)
	}
	return err
}

// A NewToken is one that is to be kept.
type NewToken struct {
	Host     *describe.Description
	Secret   chest.Secret
	Purposes []string
	Scopes   []string
	Label    string
	ID       string
	Until    time.Time
	Account  string // empty when the host shall tell
	Signed   bool   // by OAuth
	Replace  string // the name of the entry whose place it takes; empty for a new one
	Owed     string // the host's own name of the token in that place, which is to be forgotten next; empty for none
	Proved   string // by what it was proved already; empty where the host's API is to be asked
	Issued   bool   // by the host a moment ago, so that taking it back revokes it
}

// Keep proves a token, puts it into the chest, and makes git ask the chest for the host.
func Keep(ctx context.Context, p site.Site, batch *workstation.Batch, n NewToken) (chest.Entry, *Proven, error) {
	proven := &Proven{How: n.Proved}
	if n.Proved == "" {
		found, err := Prove(ctx, p, n.Host, n.Host.Bind(n.Secret.Token))
		switch {
		case err == nil:
			proven = found
		case n.Issued && !errors.Is(err, ErrTokenUnproved): // the host has just made it, and it may not ask whose it is
			p.Trace().Info("a token that was issued could not be proved", "host", n.Host.Name)
		default:
			return chest.Entry{}, nil, err
		}
	}
	if n.Host.ForAccount != "" && proven.Account != "" && proven.Account != n.Host.ForAccount {
		return chest.Entry{}, proven, fmt.Errorf("%w: it is %s's", ErrOwner, proven.Account)
	}
	e := EntryFor(p, n, proven)
	// What comes of signing in expires within the hour and is renewed unasked. What takes another's place was judged
	// before the host was asked for it ([Check]); the other may be dead by now, so it is kept whatever its end.
	if !n.Signed && n.Replace == "" {
		rules, err := policy.Read(p.Station)
		if err == nil {
			err = rules.Token(e.Until)
		}
		if err != nil {
			return chest.Entry{}, proven, err
		}
	}
	step := workstation.HostStep{Host: n.Host.Name, Act: hosts.ActKeep,
		Data: map[string]string{"issued": yes(n.Issued), "replaced": yes(n.Replace != "")}}
	if n.Replace == "" {
		n.Replace = endedLike(p, e)
	}
	err := batch.Act(ctx, fmt.Sprintf("Keep a token for %s in the chest.", n.Host.Name), step,
		func() (map[string]string, error) {
			var err error
			if n.Replace != "" {
				e.Name, e.Owed = n.Replace, n.Owed
				e, err = Chest(p).Put(e, n.Secret)
			} else {
				e, err = Chest(p).Add(e, n.Secret)
			}
			return map[string]string{"name": e.Name}, err
		})
	if err != nil {
		return e, proven, err
	}
	return e, proven, hosts.SettleHTTPS(ctx, batch, p.Station, n.Host, p.Program)
}

// endedLike is the name of a token that has ended, and in whose place another one belongs: nobody
// needs to hear of its end any more.
func endedLike(p site.Site, e chest.Entry) string {
	list, _ := Chest(p).At(e.Protocol, e.At) // one that is damaged is told elsewhere
	i := slices.IndexFunc(list, func(old chest.Entry) bool {
		return old.Ended(p.Station.Now()) && old.User == e.User && old.Path == e.Path
	})
	if i < 0 {
		return ""
	}
	return list[i].Name
}

func EntryFor(p site.Site, n NewToken, proven *Proven) chest.Entry {
	now := p.Station.Now().UTC().Truncate(time.Second)
	e := chest.Entry{Name: n.Host.Name, Protocol: "https", At: n.Host.HTTPSAt(), Places: n.Host.Places(),
		Host: n.Host.Name, Account: n.Account, ID: n.ID, Label: n.Label,
		Purposes: n.Purposes, Scopes: n.Scopes, Made: now, Until: n.Until.UTC(), Signed: n.Signed}
	if e.Until.IsZero() {
		e.Until = proven.Until.UTC()
	}
	if proven.How != "" {
		e.Proved = now
	}
	if proven.Account != "" {
		e.Account = proven.Account
	}
	if len(e.Scopes) == 0 {
		e.Scopes = proven.Scopes
	}
	if len(e.Purposes) == 0 {
		e.Purposes = PurposesOf(n.Host, e.Scopes)
	}
	if e.User = n.Host.GitUser(e.Account); e.User == "" {
		e.User = "token"
	}
	return e
}

// PurposesOf tells which purposes scopes serve, as far as the description says.
func PurposesOf(d *describe.Description, scopes []string) []string {
	var list []string
	for _, purpose := range describe.Purposes() {
		needed, found := d.Purposes[purpose]
		if found && len(needed) > 0 &&
			!slices.ContainsFunc(needed, func(s string) bool { return !slices.Contains(scopes, s) }) {
			list = append(list, purpose)
		}
	}
	return list
}

// Find finds an entry by its name, or the only one of a host.
func Find(p site.Site, name string) (chest.Entry, error) {
	e, err := Chest(p).Entry(name)
	if !errors.Is(err, chest.ErrNone) {
		return e, err
	}
	list, err := Chest(p).List()
	if err != nil && !errors.Is(err, chest.ErrDamaged) {
		return e, err
	}
	var found []chest.Entry
	for _, e := range list {
		if e.Host == name || e.At == allow.LowerHost(name) {
			found = append(found, e)
		}
	}
	switch len(found) {
	case 0:
		var names []string
		for _, e := range list {
			names = append(names, e.Name)
		}
		return e, suggest.Unknown(name, ErrNoToken, names)
	case 1:
		return found[0], nil
	}
	return e, fmt.Errorf("%s: %w", name, ErrWhichToken)
}

// For finds a token in the chest that a host's interface may be shown for a purpose: it was kept
// for that purpose, and for the very host and port at which the interface is.
func For(p site.Site, d *describe.Description, purpose string) (e chest.Entry, found bool) {
	at, err := url.Parse(d.Interface.URL)
	if err != nil {
		return e, false
	}
	return At(p, allow.LowerHost(at.Host), func(e chest.Entry) bool {
		return slices.Contains(e.Purposes, purpose) && (d.ForAccount == "" || e.Account == d.ForAccount)
	})
}

// At finds one that has not ended.
func At(p site.Site, at string, fits func(chest.Entry) bool) (e chest.Entry, found bool) {
	list, _ := Chest(p).At("https", at) // what is damaged serves nobody, and is told elsewhere
	i := slices.IndexFunc(list, func(e chest.Entry) bool { return !e.Ended(p.Station.Now()) && fits(e) })
	if i < 0 {
		return e, false
	}
	return list[i], true
}

// NewPlaces are those to which the host of an entry leads by now, and for which it was not kept.
func NewPlaces(e chest.Entry, d *describe.Description) []origin.Place {
	return slices.DeleteFunc(d.Places(), func(p origin.Place) bool { return slices.Contains(e.Places, p) })
}

// Rebind keeps a token for the places that the description of its host names now. Whose token it is
// must have been asked before.
func Rebind(p site.Site, d *describe.Description, e chest.Entry, s chest.Secret) (chest.Entry, error) {
	e.Places = d.Places()
	return Chest(p).Put(e, s)
}

// HostOf is the description of the host of an entry.
func HostOf(p site.Site, e chest.Entry) (*describe.Description, error) {
	d, err := p.Registry.Find(e.Host)
	if err == nil && d.HTTPSAt() != e.At { // the secret goes only where it was kept for
		err = fmt.Errorf("%s: its description leads to %s now, and the token is for %s", e.Host, d.HTTPSAt(), e.At)
	}
	return d, err
}

// longestName bounds the name of an entry that is made of a host's.
const longestName = 60

// NameAt names an entry after the host of a place, as it is in URLs.
func NameAt(at string) string {
	name := at
	if target, err := url.Parse("https://" + at); err == nil {
		name = target.Hostname()
	}
	return name[:min(len(name), longestName)]
}
