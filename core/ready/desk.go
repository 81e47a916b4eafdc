package ready

import (
	"bytes"
	"errors"

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
	folder, text := query.SplitForGit(question)
	if folder != d.place.Station.Data { // another chest than the one that is open here
		return nil, errLongWay
	}
	asked, err := gitlink.ReadCredential(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	e, found, err := wanted(d.chest, asked)
	if !found {
		return nil, err
	}
	if e.Kind != chest.Sealed || e.EndsSoon(d.place.Station.Now()) || d.place.ending(e) || reads(e) {
		return nil, errLongWay
	}
	s, err := d.chest.Get(e)
	if err != nil || unfit(s) {
		return nil, errLongWay
	}
	return forGit(e, s), nil
}
