package ready

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

	"Unicrux/core/chest"
	"Unicrux/core/describe"
	"Unicrux/core/gitlink"
	"Unicrux/core/hosts"
	"Unicrux/core/origin"
	"Unicrux/core/secret"
	"Unicrux/core/stray"
	"Unicrux/core/workstation"
)

// An Adopted is a stray secret, and what became of it.
type Adopted struct {
	Stray stray.Stray
	Name  string // of its entry in the chest; empty where it was not moved
	Err   error  // why it was not
}

// ErrNotAnswered is returned when git, asked back, does not give the secret that was moved: then
// it is left where it was.
var ErrNotAnswered = errors.New("git does not get it from the chest, so it was left where it lies")

// ErrOnlyName is returned for a secret in the place of a login name, where the host cannot be
// asked whose it is.
var ErrOnlyName = errors.New("the secret stands in the place of the login name, and only the host's owner knows how else it may be given")

// ErrNotTaken is returned for a secret that its host's interface does not take: in the chest it could be
// in the way of one that serves. It may be an account's password all the same.
var ErrNotTaken = errors.New("its host does not take it as a token, so it was left where it lies")

// Adopt moves stray secrets into the chest: each is put there, git is made to ask the chest for
// its host, it is taken out of where it lay, and git is asked for it. Where git does not get it,
// it is put back. Where nothing for a host is left in the file of git's store helper, that is not asked for
// this host any more: it would write down what git gets from the chest. The chest must be open.
func (p Place) Adopt(ctx context.Context, batch *workstation.Batch, strays []stray.Stray) ([]Adopted, error) {
	var list []Adopted
	var fromStore []string
	used := p.usedPlaces(ctx, strays)
	for _, s := range strays {
		adopted := Adopted{Stray: s}
		if s.Movable() && !batch.Dry {
			adopted.Name, adopted.Err = p.adopt(ctx, batch, s, placesOf(s, used))
			if adopted.Err == nil && s.Sort == stray.CredentialFile && !slices.Contains(fromStore, s.At) {
				fromStore = append(fromStore, s.At)
			}
		}
		list = append(list, adopted)
	}
	return list, p.closeStore(ctx, batch, fromStore)
}

// closeStore keeps git's store helper from writing down what git gets from the chest ("approve" in
// git-credential(1) tells all helpers), at hosts for which nothing is stored there any more.
func (p Place) closeStore(ctx context.Context, batch *workstation.Batch, places []string) error {
	if len(places) == 0 {
		return nil
	}
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return err
	}
	left := stray.InStore(p.Station, config)
	for _, at := range places {
		if slices.ContainsFunc(left, func(s stray.Stray) bool { return s.At == at }) {
			continue
		}
		if err := hosts.AskAlone(ctx, batch, p.Station, at, p.Program); err != nil {
			return err
		}
	}
	return nil
}

// adopt moves a stray in for each of the places where it serves, and then takes it out of where it lay.
func (p Place) adopt(ctx context.Context, batch *workstation.Batch, s stray.Stray, places []string) (name string, err error) {
	var moved []stray.Stray
	for _, at := range places {
		there := s
		there.At = at
		kept, err := p.settleIn(ctx, batch, there)
		if name = cmp.Or(name, kept.Name); err != nil {
			return name, err
		}
		there.User = kept.User
		moved = append(moved, there)
	}
	return name, p.moveOut(ctx, batch, s, moved)
}

// settleIn puts a stray into the chest, and makes git ask the chest for its host.
func (p Place) settleIn(ctx context.Context, batch *workstation.Batch, s stray.Stray) (chest.Entry, error) {
	d := p.Registry.ForWeb(s.At)
	proven := &Proven{}
	if d != nil {
		known, err := p.ProveToken(ctx, d, d.Bind(s.Secret))
		if errors.Is(err, ErrTokenUnproved) {
			return chest.Entry{}, ErrNotTaken
		}
		if err == nil { // else the host cannot be asked now, and git may all the same be answered
			proven = known
		}
	}
	e := p.entryOf(d, s, proven)
	if e.User == "" {
		if e.User = "token"; s.Sort == stray.RemoteURL {
			return chest.Entry{}, ErrOnlyName
		}
	}
	e, err := p.moveIn(batch, e, s.Secret)
	if err != nil {
		return chest.Entry{}, err
	}
	if d != nil {
		err = hosts.SettleHTTPS(ctx, batch, p.Station, d, p.Program)
	} else {
		err = hosts.SettleHelper(ctx, batch, p.Station, s.At, p.Program)
	}
	return e, err
}

// entryOf is what is known about a stray. Its user may be empty.
func (p Place) entryOf(d *describe.Description, s stray.Stray, proven *Proven) chest.Entry {
	if d != nil {
		e := p.entryFor(NewToken{Host: d, Secret: chest.Secret{Token: s.Secret}, Account: s.User}, proven)
		if e.User = s.User; s.User == "" && proven.Account != "" {
			e.User = d.GitUser(proven.Account)
		}
		return e
	}
	name, _, _ := strings.Cut(s.At, ":")
	return chest.Entry{Name: name, Protocol: "https", At: s.At, Places: []origin.Place{p.Registry.WebPlace(s.At)}, User: s.User, Account: s.User, Made: p.Station.Now().UTC().Truncate(time.Second)}
}

// moveIn puts a stray into the chest, unless the very same is there.
func (p Place) moveIn(batch *workstation.Batch, e chest.Entry, token secret.Text) (chest.Entry, error) {
	c := p.Chest()
	there, err := c.At(e.Protocol, e.At)
	if err != nil {
		return e, err
	}
	for _, other := range there {
		if kept, err := c.Get(other); err == nil && other.User == e.User && same(kept.Token, token) {
			return other, nil
		}
	}
	step := workstation.HostStep{Host: e.At, Act: hosts.ActKeep, Data: map[string]string{}}
	err = batch.Act(fmt.Sprintf("Keep a secret for %s in the chest.", e.At), step, func() (_ map[string]string, err error) {
		e, err = c.Add(e, chest.Secret{Token: token})
		return map[string]string{"name": e.Name}, err
	})
	return e, err
}

// moveOut takes a stray out of where it lies, and puts it back if git does not get it then at each of
// the places to which it was moved.
func (p Place) moveOut(ctx context.Context, batch *workstation.Batch, s stray.Stray, moved []stray.Stray) error {
	var before, after []byte
	words := fmt.Sprintf("Take the secret for %s out of %s.", s.At, p.Station.Tilde(s.File))
	edit := gitlink.EditOf{Path: s.File, Words: words, Mode: 0o600, Secret: true}
	_, err := gitlink.ChangeText(batch, edit, func(old []byte) (_ []byte, err error) {
		before = old
		after, err = p.without(ctx, s, old)
		return after, err
	})
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(moved, func(m stray.Stray) bool {
		answer, err := gitlink.Fill(ctx, p.Station, gitlink.Credential{Protocol: "https", Host: m.At, User: m.User})
		return err != nil || !p.fromChest(m, answer)
	}) {
		return nil
	}
	edit.Words = "Put it back."
	_, err = gitlink.ChangeText(batch, edit, func(now []byte) ([]byte, error) {
		if !bytes.Equal(now, after) { // somebody was at work meanwhile: what they wrote stays
			return now, nil
		}
		return before, nil
	})
	return errors.Join(ErrNotAnswered, err)
}

// fromChest tells whether an answer of git's is one of the chest's for that host. Where several
// secrets lay about for one account, git gets one of them.
func (p Place) fromChest(s stray.Stray, answer secret.Text) bool {
	c := p.Chest()
	list, _ := c.At("https", s.At)
	return slices.ContainsFunc(list, func(e chest.Entry) bool {
		kept, err := c.Get(e)
		return err == nil && same(kept.Token, answer)
	})
}

// without is the text of a file without a stray. Where several lie in it, their lines may have
// moved since they were found, so they are looked for anew.
func (p Place) without(ctx context.Context, s stray.Stray, text []byte) ([]byte, error) {
	switch s.Sort {
	case stray.RemoteURL, stray.Header:
		entries, err := gitlink.EntriesIn(ctx, p.Station, text)
		if err != nil {
			return nil, err
		}
		a := gitlink.Assignment{Key: s.Key}
		for _, entry := range entries {
			if !strings.EqualFold(entry.Key, s.Key) {
				continue
			}
			value := entry.Value
			if value == s.Value && s.Sort == stray.Header {
				continue
			}
			if value == s.Value {
				value = withoutPassword(value)
			}
			a.Values = append(a.Values, value)
		}
		return gitlink.Assign(ctx, p.Station, text, []gitlink.Assignment{a})
	}
	gone := slices.DeleteFunc(stray.InText(s.File, text), func(f stray.Stray) bool {
		return f.Sort != s.Sort || f.At != s.At || f.User != s.User || !same(f.Secret, s.Secret)
	})
	return stray.Without(s.Sort, text, gone), nil
}

// withoutPassword leaves the user name in a URL: by that git knows which account is meant.
func withoutPassword(text string) string {
	at, err := url.Parse(text)
	if err != nil {
		return text
	}
	if _, set := at.User.Password(); set {
		at.User = url.User(at.User.Username())
	} else {
		at.User = nil
	}
	return at.String()
}
