package gitanswer

import (
	"context"
	"errors"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
)

// Proved notes that git got through with a credential. One that is not in the chest yet is kept:
// where git was told to ask us, we are its helper for everything (gitcredentials(7)).
func Proved(p site.Site, c *chest.Chest, asked gitlink.Asked) error {
	if !storable(asked) {
		return nil
	}
	list, err := c.At("https", asked.Host)
	if err != nil {
		return err
	}
	now := p.Station.Now().UTC().Truncate(time.Second)
	switch e, found, err := keeps(c, list, asked); {
	case err != nil:
		return err
	case !found:
		return keepFromGit(p, c, list, asked, now)
	case provedToday(now, e): // once a day is enough
		return nil
	default:
		return c.Note(e.Name, func(e *chest.Entry) { e.Proved = now })
	}
}

// storable tells whether what git proved is something that belongs into a chest.
func storable(asked gitlink.Asked) bool {
	return asked.Protocol == "https" && asked.Host != "" && asked.HasPassword
}

// keeps finds the entry of a list that has the secret with which git got through.
func keeps(c *chest.Chest, list []chest.Entry, asked gitlink.Asked) (e chest.Entry, found bool, err error) {
	for _, e := range list {
		if e.User != asked.User && e.Account != asked.User || e.Path != "" && e.Path != asked.Path {
			continue
		}
		s, err := c.Get(e)
		if err != nil || s.Token.Equal(asked.Password) {
			return e, err == nil, err
		}
	}
	return e, false, nil
}

func provedToday(now time.Time, e chest.Entry) bool { return now.Sub(e.Proved) < 24*time.Hour }

// keepFromGit keeps what a person typed at git's own prompt, and the host took.
func keepFromGit(p site.Site, c *chest.Chest, list []chest.Entry, asked gitlink.Asked, now time.Time) error {
	for _, d := range p.Registry.All() {
		if d.HTTPSAt() != asked.Host || (d.ForAccount != "" && d.ForAccount != asked.User) {
			continue
		}
		_, err := c.Add(chest.Entry{Name: d.Name, Protocol: "https", At: asked.Host, Places: d.Places(),
			Path: asked.Path, User: asked.User, Host: d.Name, Account: asked.User, Made: now, Proved: now},
			chest.Secret{Token: asked.Password})
		return err
	}
	e := chest.Entry{Name: tokens.NameAt(asked.Host), Protocol: "https", At: asked.Host,
		Places: []origin.Place{p.Registry.WebPlace(asked.Host)}, Path: asked.Path,
		User: asked.User, Account: asked.User, Made: now, Proved: now}
	for _, old := range list {
		if old.Host == "" && old.User == e.User && old.Path == e.Path { // another password of the same account
			e.Name = old.Name
			_, err := c.Put(e, chest.Secret{Token: asked.Password})
			return err
		}
	}
	_, err := c.Add(e, chest.Secret{Token: asked.Password})
	return err
}

// Refused finds out why a host refused what git got from us, says so with the mend, and
// takes it out of the chest when the host does not know it at all. Without a password, git wants
// everything forgotten that fits ("erase" in gitcredentials(7)).
func Refused(ctx context.Context, p site.Site, c *chest.Chest, asked gitlink.Asked) (Saying, error) {
	if asked.Protocol != "https" || asked.Host == "" {
		return Saying{}, nil
	}
	list, err := c.At("https", asked.Host)
	if err != nil {
		return Saying{}, err
	}
	var names []string
	for _, e := range list {
		if asked.HasUser && e.User != asked.User && e.Account != asked.User || asked.Path != "" &&
			e.Path != asked.Path && (e.Path != "" || !asked.HasPassword) {
			continue
		}
		if !asked.HasPassword {
			names = append(names, e.Name)
			continue
		}
		s, err := c.Get(e)
		if err != nil || !s.Token.Equal(asked.Password) {
			continue
		}
		return whyRefused(ctx, p, c, e, s)
	}
	for _, name := range names { // git's helpers are silent about it
		err = errors.Join(err, c.Remove(name))
	}
	return Saying{}, err
}
