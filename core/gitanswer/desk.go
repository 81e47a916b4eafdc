package gitanswer

import (
	"bytes"
	"slices"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/workstation"
)

// A Desk is the vault at the chest's door, and answers git besides: as long as the chest is open
// there, and nothing has to be renewed, asked or said. Whoever asks it does not have to know what a
// chest looks like.
type Desk struct {
	*chest.Vault
	station *workstation.Station
	chest   *chest.Chest
	places  *hosts.Places
}

// NewDesk makes one whose chest is closed.
func NewDesk(station *workstation.Station, clock lifetime.Clock) *Desk {
	vault := chest.NewVault(clock)
	return &Desk{Vault: vault, station: station, chest: chest.OpenedBy(station, vault),
		places: hosts.NewPlaces(station)}
}

// errLongWay tells that an answer takes more than the holder does.
var errLongWay = query.ErrNo

// Answer answers what the vault answers, and [query.ForGit].
func (d *Desk) Answer(name string, question []byte) ([]byte, error) {
	if name != query.ForGit {
		return d.Vault.Answer(name, question)
	}
	return d.forGit(question)
}

func (d *Desk) forGit(question []byte) ([]byte, error) {
	q, ok := query.ReadGitQuestion(question)
	if !ok || q.Data != d.station.Data { // another chest than the one that is open here
		return nil, errLongWay
	}
	asked, err := gitlink.ReadCredential(bytes.NewReader(q.Said))
	switch {
	case err != nil:
		return nil, errLongWay
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
		return nil, longWay(err)
	}
	if place, err := d.places.Web(e.At); err != nil || !slices.Contains(e.Places, place) {
		return nil, errLongWay
	}
	if e.Kind != chest.Sealed || e.EndsSoon(d.station.Now()) || ending(d.station.Now(), e) || mayNotPush(e) {
		return nil, errLongWay
	}
	s, err := d.chest.Get(e)
	if err != nil || unfit(s) {
		return nil, errLongWay
	}
	return forGit(e, s), nil
}

// longWay lets whoever asks go on alone where something is wrong here, which is to be said.
func longWay(err error) error {
	if err != nil {
		return errLongWay
	}
	return nil
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
	if e, found, err := keeps(d.chest, list, asked); err != nil || !found || !provedToday(d.station.Now(), e) {
		return errLongWay
	}
	return nil
}
