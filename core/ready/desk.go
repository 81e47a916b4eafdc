package ready

import (
	"bytes"
	"errors"
	"slices"

	"Unicrux/core/chest"
	"Unicrux/core/gitlink"
	"Unicrux/core/query"
	"Unicrux/core/workstation"
)

// A Desk is the holder's vault, and answers git besides: as long as the chest is open there, and
// nothing has to be renewed, asked or said. Whoever asks it does not have to know what a chest
// looks like.
type Desk struct {
	*chest.Vault
	place Place
	chest *chest.Chest
}

// NewDesk makes one whose chest is closed.
func NewDesk(station *workstation.Station) *Desk {
	vault := chest.NewVault(station.Now)
	return &Desk{Vault: vault, place: Place{Station: station}, chest: chest.OpenedBy(station, vault)}
}

var errLongWay = errors.New("this takes more than the holder does")

// Answer answers what the vault answers, and [query.ForGit].
func (d *Desk) Answer(name string, question []byte) (answer []byte, known bool, err error) {
	if name != query.ForGit {
		return d.Vault.Answer(name, question)
	}
	answer, err = d.forGit(question)
	return answer, true, err
}

func (d *Desk) forGit(question []byte) ([]byte, error) {
	q, ok := query.ReadGitQuestion(question)
	if !ok || q.Data != d.place.Station.Data { // another chest than the one that is open here
		return nil, errLongWay
	}
	asked, err := gitlink.ReadCredential(bytes.NewReader(q.Said))
	switch {
	case err != nil:
		return nil, err
	case q.Action == "get":
		return d.get(asked)
	case q.Action == "store":
		return nil, d.store(asked)
	}
	return nil, errLongWay
}

func (d *Desk) get(asked gitlink.Asked) ([]byte, error) {
	e, found, err := wanted(d.chest, asked)
	if !found {
		return nil, err
	}
	if e.Kind != chest.Sealed || e.EndsSoon(d.place.Station.Now()) || d.place.ending(e) || mayNotPush(e) {
		return nil, errLongWay
	}
	s, err := d.chest.Get(e)
	if err != nil || unfit(s) {
		return nil, errLongWay
	}
	return forGit(e, s), nil
}

// store is done where everything is known that git has to tell.
func (d *Desk) store(asked gitlink.Asked) error {
	if !storable(asked) {
		return nil
	}
	list, err := d.chest.At("https", asked.Host)
	if err != nil || slices.ContainsFunc(list, func(e chest.Entry) bool { return e.Kind != chest.Sealed }) {
		return errLongWay
	}
	if e, found, err := keeps(d.chest, list, asked); err != nil || !found || !d.place.provedToday(e) {
		return errLongWay
	}
	return nil
}
