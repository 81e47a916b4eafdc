// Package adopt moves secrets out of plain files into the chest, and proves that git gets them from there.
package adopt

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
)

// An Adopted is a stray secret, and what became of it.
type Adopted struct {
	Stray plainsecrets.Stray
	Name  string // of its entry in the chest; empty where it was not moved
	Err   error  // why it was not
	Alike bool   // git itself was not asked for it: it asks the same helpers as for others that it got
}

// ErrNotAnswered is returned when git, asked back, does not give the secret that was moved: then
// it is left where it was.
var ErrNotAnswered = errors.New("git does not get it from the chest, so it was left where it is")

// ErrOnlyName is returned for a secret in the place of a login name, where the host cannot be
// asked whose it is.
var ErrOnlyName = errors.New(
	"the secret is in the user name field, and only the host's owner knows how else to send it",
)

// ErrNotTaken is returned for a secret that its host's interface does not take: in the chest it could be
// in the way of one that serves. It may be an account's password all the same.
var ErrNotTaken = errors.New("its host does not accept it as a token, so it was left where it is")

// Adopt moves stray secrets into the chest: each is put there, git is made to ask the chest for its
// host, it is taken out of where it lay, and git is asked for it. Where git does not get it, it is put
// back. Where nothing for a host is left in the file of git's store helper, that is not asked for this
// host any more: it would write down what git gets from the chest. The chest must be open.
//
// Each file is written once for all secrets, and the record twice.
func Adopt(ctx context.Context, p site.Site, batch *workstation.Batch, strays []plainsecrets.Stray) ([]Adopted, error) {
	list := make([]Adopted, len(strays))
	for i, s := range strays {
		list[i].Stray = s
	}
	if batch.Dry {
		return list, nil
	}
	moves := movesOf(ctx, p, strays)
	if err := moveIn(ctx, p, batch, moves); err != nil {
		return list, err
	}
	if err := askChest(ctx, p, batch, moves); err != nil {
		return list, err
	}
	outcome(list, moves)
	if err := moveOut(ctx, p, batch, list, moves); err != nil {
		return list, err
	}
	return list, closeStore(ctx, p, batch, list)
}

// A move is a secret on its way into the chest, for one of the places where it serves.
type move struct {
	at    int // of the strays
	host  *describe.Description
	kept  chest.Kept
	there bool // the chest has it already
}

// movesOf finds out where secrets serve, and what is to be known about them in the chest.
func movesOf(ctx context.Context, p site.Site, strays []plainsecrets.Stray) []move {
	used := usedPlaces(ctx, p, strays)
	var moves []move
	for i, s := range strays {
		if !s.Movable() {
			continue
		}
		for _, at := range placesOf(s, used) {
			there := s
			there.At = at
			m := move{at: i, host: p.Registry.ForWeb(at)}
			m.kept = chest.Kept{Secret: chest.Secret{Token: s.Secret}}
			m.kept.Entry, m.kept.Err = describeStray(ctx, p, m.host, there)
			moves = append(moves, m)
		}
	}
	return moves
}

// describeStray asks the host of a stray whose it is, where it can be asked.
func describeStray(ctx context.Context, p site.Site, d *describe.Description,
	s plainsecrets.Stray) (chest.Entry, error) {
	proven := &tokens.Proven{}
	if d != nil {
		known, err := tokens.Prove(ctx, p, d, d.Bind(s.Secret))
		if errors.Is(err, tokens.ErrTokenUnproved) {
			return chest.Entry{}, ErrNotTaken
		}
		if err == nil { // else the host cannot be asked now, and git may all the same be answered
			proven = known
		}
	}
	e := entryOf(p, d, s, proven)
	if e.User == "" {
		if e.User = "token"; s.Sort == plainsecrets.RemoteURL {
			return chest.Entry{}, ErrOnlyName
		}
	}
	return e, nil
}

// entryOf is what is known about a stray. Its user may be empty.
func entryOf(p site.Site, d *describe.Description, s plainsecrets.Stray, proven *tokens.Proven) chest.Entry {
	if d != nil {
		e := tokens.EntryFor(p, tokens.NewToken{Host: d, Secret: chest.Secret{Token: s.Secret},
			Account: s.User}, proven)
		if e.User = s.User; s.User == "" && proven.Account != "" {
			e.User = d.GitUser(proven.Account)
		}
		return e
	}
	return chest.Entry{Name: tokens.NameAt(s.At), Protocol: "https", At: s.At,
		Places: []origin.Place{p.Registry.WebPlace(s.At)}, User: s.User, Account: s.User,
		Made: p.Station.Now().UTC().Truncate(time.Second)}
}

// moveIn puts secrets into the chest, unless the very same are there.
func moveIn(ctx context.Context, p site.Site, batch *workstation.Batch, moves []move) error {
	c := tokens.Chest(p)
	known := inChest(p, moves)
	var which []int
	var intents []workstation.Intent
	twin := map[int]int{} // a secret that is found twice is kept once
	first := map[string]int{}
	for i := range moves {
		m := &moves[i]
		if m.kept.Err != nil {
			continue
		}
		key := mark(m.kept.Entry, m.kept.Secret.Token)
		if e, found := known[key]; found {
			m.kept.Entry, m.there = e, true
			continue
		}
		if j, found := first[key]; found {
			twin[i] = j
			continue
		}
		first[key] = i
		which = append(which, i)
		intents = append(intents,
			workstation.Intent{Summary: fmt.Sprintf("Keep a secret for %s in the chest.", m.kept.Entry.At),
				Step: workstation.HostStep{Host: m.kept.Entry.At, Act: hosts.ActKeep, Data: map[string]string{}}})
	}
	err := batch.Acts(ctx, intents, func() []workstation.Outcome {
		list := make([]chest.Kept, len(which))
		for i, at := range which {
			list[i] = moves[at].kept
		}
		err := c.AddAll(list)
		outcomes := make([]workstation.Outcome, len(which))
		for i, at := range which {
			list[i].Err = errors.Join(list[i].Err, err)
			moves[at].kept = list[i]
			outcomes[i] = workstation.Outcome{Data: map[string]string{"name": list[i].Entry.Name}, Err: list[i].Err}
		}
		return outcomes
	})
	for i, j := range twin {
		moves[i].kept = moves[j].kept
	}
	return err
}

// inChest finds the entries whose secrets might be among those that are moved.
func inChest(p site.Site, moves []move) map[string]chest.Entry {
	c := tokens.Chest(p)
	wanted := map[[3]string]bool{}
	for _, m := range moves {
		e := m.kept.Entry
		wanted[[3]string{e.Protocol, allow.LowerHost(e.At), e.User}] = true
	}
	known := map[string]chest.Entry{}
	list, _ := c.List() // one that is damaged is told elsewhere
	for _, e := range list {
		if !wanted[[3]string{e.Protocol, allow.LowerHost(e.At), e.User}] {
			continue
		}
		if kept, err := c.Get(e); err == nil {
			known[mark(e, kept.Token)] = e
		}
	}
	return known
}

// mark tells secrets apart: for whom, and what.
func mark(e chest.Entry, token secret.Text) string {
	sum := sha256.Sum256(token.Reveal())
	return strings.Join([]string{e.Protocol, allow.LowerHost(e.At), e.User, string(sum[:])}, "\x00")
}

// askChest makes git ask the chest for the hosts of what was moved.
func askChest(ctx context.Context, p site.Site, batch *workstation.Batch, moves []move) error {
	var described []*describe.Description
	var places []string
	seen := map[string]bool{}
	for _, m := range moves {
		at := m.kept.Entry.At
		if m.kept.Err != nil || seen[at] {
			continue
		}
		seen[at] = true
		if m.host != nil {
			described = append(described, m.host)
		} else {
			places = append(places, at)
		}
	}
	for _, d := range described {
		if err := hosts.SettleHTTPS(ctx, batch, p.Station, d, p.Program); err != nil {
			return err
		}
	}
	if len(places) == 0 {
		return nil
	}
	return hosts.SettleHelper(ctx, batch, p.Station, places, p.Program)
}

// outcome says of each stray what became of its moves.
func outcome(list []Adopted, moves []move) {
	for _, m := range moves {
		a := &list[m.at]
		if m.kept.Err != nil {
			a.Err = errors.Join(a.Err, m.kept.Err)
			continue
		}
		a.Name = cmp.Or(a.Name, m.kept.Entry.Name)
	}
}

// closeStore keeps git's store helper from writing down what git gets from the chest ("approve" in
// git-credential(1) tells all helpers), at hosts for which nothing is stored there any more.
func closeStore(ctx context.Context, p site.Site, batch *workstation.Batch, list []Adopted) error {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return err
	}
	stays := map[string]bool{}
	for _, s := range plainsecrets.InStore(p.Station, config) {
		stays[s.At] = true
	}
	var places []string
	for _, a := range list {
		if at := a.Stray.At; a.Err == nil && a.Name != "" && a.Stray.Sort == plainsecrets.CredentialFile && !stays[at] {
			places, stays[at] = append(places, at), true
		}
	}
	if len(places) == 0 {
		return nil
	}
	return hosts.AskAlone(ctx, batch, p.Station, places, p.Program)
}
