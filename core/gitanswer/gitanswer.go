// Package gitanswer answers git's questions for credentials from the chest, keeps what git proved, and says why a host
// refused (gitcredentials(7), git-credential(1)).
package gitanswer

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/untrusted"
)

// refreshAhead renews a signed-in token a little before it ends, so that it lasts for a push.
const refreshAhead = time.Minute

// A Saying is what a person should know, and the command that helps.
type Saying struct {
	Message string   // uncleaned; empty for nothing to say
	Command []string // empty where none helps
}

// A GitAnswer is what git is told, and what the person should know besides.
type GitAnswer struct {
	Text []byte       // for git; empty when there is nothing, so that git asks the next helper
	Said Saying       // why there is nothing, or why it may be refused; may be empty
	Soon *chest.Entry // the token, when it ends soon and nobody was told about that today
}

// Answer finds the credential that git asks for. open is called where the chest has one: only then the hosts that are
// known here have to be read.
func Answer(ctx context.Context, c *chest.Chest, asked gitlink.Asked,
	open func() (site.Site, error)) (GitAnswer, error) {
	e, found, err := wanted(c, asked)
	if !found {
		return GitAnswer{}, err
	}
	p, err := open()
	if err != nil {
		return GitAnswer{}, err
	}
	if said := strays(p, e); said.Message != "" {
		return GitAnswer{Said: said}, nil
	}
	s, err := c.Get(e)
	if err != nil {
		return GitAnswer{}, err
	}
	e, s, said := current(ctx, p, c, e, s)
	if said.Message != "" || unfit(s) {
		return GitAnswer{Said: said}, nil
	}
	answer := GitAnswer{Text: forGit(e, s)}
	if mayNotPush(e) && gitlink.Pushing() { // git asks nobody why it was forbidden to: this is the one moment to say so
		answer.Said = Saying{fmt.Sprintf("The token %s is for %s, and this is a push. To make one that may push:",
			e.Name, purposesText(e)), append(another(e), "--for", "push")}
	}
	if foresee(p, e) {
		answer.Soon = &e
	}
	return answer, nil
}

// strays says that git would take a token to another place than it was kept for.
func strays(p site.Site, e chest.Entry) Saying {
	place := p.Registry.WebPlace(e.At)
	if slices.Contains(e.Places, place) {
		return Saying{}
	}
	return Saying{fmt.Sprintf("The token %s was stored for %s, but git would now send it to %s. If that is right:",
		e.Name, placesText(e.Places), place),
		[]string{"unicrux", "token", "test", e.Name}}
}

func placesText(places []origin.Place) string {
	var list []string
	for _, p := range places {
		list = append(list, p.String())
	}
	return strings.Join(list, " and ")
}

// wanted finds the entry that git asks for. An error tells why one may be there and is not found.
func wanted(c *chest.Chest, asked gitlink.Asked) (e chest.Entry, found bool, err error) {
	if asked.Protocol != "https" {
		return e, false, nil // a secret goes over nothing else
	}
	list, err := c.At("https", asked.Host)
	if len(list) == 0 {
		return e, false, err
	}
	e, found = choose(list, asked)
	return e, found, nil
}

// unfit tells whether a secret has no place in git's protocol.
func unfit(s chest.Secret) bool { return bytes.ContainsAny(s.Token.Reveal(), "\n\r\x00") }

func forGit(e chest.Entry, s chest.Secret) []byte {
	return gitlink.Answer(gitlink.Credential{User: e.User, Password: s.Token}, e.Until)
}

// mayNotPush tells whether a token was made for other things than pushing.
func mayNotPush(e chest.Entry) bool {
	return len(e.Purposes) > 0 && !slices.Contains(e.Purposes, "push")
}

// foresee tells whether it is time to speak of a token's end: when it ends soon, once a day.
func foresee(p site.Site, e chest.Entry) bool {
	mark := "spoken-of-" + url.QueryEscape(e.Name)
	if !e.EndsSoon(p.Station.Now()) {
		return false
	}
	if _, spoken := p.Station.Cached(mark, 24*time.Hour); spoken {
		return false
	}
	p.Station.Keep(mark, nil)
	return true
}

// choose picks the entry that git means: for the path and the user name when it gives them,
// else that of the host's first account. One that has not ended comes first.
func choose(list []chest.Entry, asked gitlink.Asked) (chest.Entry, bool) {
	fitting := slices.DeleteFunc(slices.Clone(list), func(e chest.Entry) bool {
		return !e.Fits(asked.User, asked.Path)
	})
	if len(fitting) == 0 {
		return chest.Entry{}, false
	}
	rank := func(e chest.Entry) int {
		n := 0
		if e.Path == "" {
			n++
		}
		if strings.Contains(e.Host, "@") && asked.User == "" { // a second account answers where it is asked for
			n += 2
		}
		if mayNotPush(e) {
			n += 8
		}
		switch ended := e.Ended(time.Now()); {
		case ended && e.Signed: // it can be renewed
			n += 4
		case ended: // it is of no use, not even for pushing
			n += 16
		}
		return n
	}
	return slices.MinFunc(fitting, func(a, b chest.Entry) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), b.Made.Compare(a.Made))
	}), true
}

// ending tells whether a token has ended, or does so too soon for a push.
func ending(now time.Time, e chest.Entry) bool {
	return !e.Until.IsZero() && !e.Until.After(now.Add(refreshAhead))
}

// current renews a signed-in token that has ended, without asking anybody. It says why a token is
// of no use any more.
func current(ctx context.Context, p site.Site, c *chest.Chest, e chest.Entry, s chest.Secret) (chest.Entry,
	chest.Secret, Saying) {
	now := p.Station.Now()
	switch {
	case !ending(now, e):
		return e, s, Saying{}
	case !e.Signed:
		if e.Until.After(now) {
			return e, s, Saying{}
		}
		return e, s, ended(e)
	}
	fresh, err := tokens.Refresh(ctx, p, e, s)
	if err == nil {
		if s, err = c.Get(fresh); err == nil {
			return fresh, s, Saying{}
		}
	}
	if e.Until.After(now) {
		return e, s, Saying{}
	}
	return e, s, Saying{fmt.Sprintf("The sign-in to %s has expired and could not be renewed: %s. To sign in again:",
		e.Host, untrusted.Clean(err.Error())), another(e)}
}

func ended(e chest.Entry) Saying {
	return Saying{fmt.Sprintf("The token %s expired on %s. To make a new one:", e.Name,
		e.Until.Format(time.DateOnly)), another(e)}
}

// another is the command that gets another token in place of one.
func another(e chest.Entry) []string {
	verb := "new"
	if e.Signed {
		verb = "sign-in"
	}
	return []string{"unicrux", "token", verb, e.Host}
}

// explainPatience bounds how long git waits for an explanation.
const explainPatience = 4 * time.Second

func whyRefused(ctx context.Context, p site.Site, c *chest.Chest, e chest.Entry, s chest.Secret) (Saying, error) {
	if !e.Until.IsZero() && e.Until.Before(p.Station.Now()) {
		return ended(e), nil
	}
	ctx, cancel := context.WithTimeout(ctx, explainPatience)
	defer cancel()
	d, err := tokens.HostOf(p, e)
	if errors.Is(err, hosts.ErrUnknown) { // nobody can be asked, so it is as git says
		return Saying{Message: fmt.Sprintf("%s refuses %s. Unicrux removed it from the chest, as git asked.", e.At,
			e.Name)}, c.Remove(e.Name)
	}
	if err != nil {
		return Saying{Message: fmt.Sprintf("The host refuses the token %s.", e.Name)}, nil
	}
	proven, err := tokens.Prove(ctx, p, d, s.Bound(e))
	var refusal *hostapi.Refusal
	switch {
	case errors.Is(err, tokens.ErrTokenUnproved):
		why := d.Name + " does not know the token " + e.Name
		if errors.As(err, &refusal) && refusal.Means == "token-ended" {
			why = d.Name + " says that the token " + e.Name + " has expired"
		}
		return Saying{why + ". It was taken out of the chest. To make a new one:", another(e)}, c.Remove(e.Name)
	case err != nil || proven.How == "":
		return Saying{fmt.Sprintf("%s refuses the token %s, and cannot be asked why. To see:", d.Name, e.Name),
			[]string{"unicrux", "token", "test", e.Name}}, nil
	}
	return Saying{
		fmt.Sprintf("%s knows the token %s as %s's, and it may not do this: it is for %s. To make one that may push:",
			d.Name, e.Name, untrusted.Clean(proven.Account), purposesText(e)),
		append(another(e), "--for", "push"),
	}, nil
}

func purposesText(e chest.Entry) string {
	switch {
	case len(e.Purposes) > 0:
		return strings.Join(e.Purposes, " and ")
	case len(e.Scopes) > 0:
		return strings.Join(e.Scopes, ", ")
	}
	return "something else"
}
