package chest

import (
	"crypto/sha256"
	"encoding/json"
	"time"

	"filippo.io/age"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/workstation"
)

// The questions that a [Vault] answers, at the chest's door.
const (
	openQuestion      = "open-chest"
	closeQuestion     = "close-chest"
	untilQuestion     = "chest-until"
	recipientQuestion = "chest-recipient"
	unsealQuestion    = "unseal"
	keepQuestion      = "keep"
	giveQuestion      = "give"
)

// A Vault is the holder's part: it opens what is sealed, for a set time, and has the secrets
// that are kept nowhere else. What opens the chest never leaves it. It is for one goroutine at a
// time, as the door sees to.
type Vault struct {
	clock lifetime.Clock

	identity *age.X25519Identity
	ends     lifetime.Deadline
	kept     map[string]keptSecret
	// what was unsealed already, by the digest of what it was: git asks for the same again
	opened map[[sha256.Size]byte][]byte
}

// mostOpened bounds what is remembered of that.
const mostOpened = 256

type keptSecret struct {
	text []byte
	ends lifetime.Deadline
}

// NewVault makes one that is closed.
func NewVault(clock lifetime.Clock) *Vault {
	return &Vault{clock: clock, kept: map[string]keptSecret{}}
}

// openRequest opens the chest for a time.
type openRequest struct {
	Identity string
	Seconds  int64
}

// keepRequest keeps a secret, or forgets it when there is none.
type keepRequest struct {
	Name string
	Text []byte
}

// Forget drops what has ended, and tells how long it is until the next thing ends; ok is false when
// nothing is held.
func (v *Vault) Forget() (left time.Duration, ok bool) {
	if v.identity != nil && v.clock.Passed(v.ends) {
		v.close()
	}
	for name, kept := range v.kept {
		if v.clock.Passed(kept.ends) {
			v.drop(name)
		} else if until := v.clock.Left(kept.ends); !ok || until < left {
			left, ok = until, true
		}
	}
	if v.identity != nil {
		if until := v.clock.Left(v.ends); !ok || until < left {
			left, ok = until, true
		}
	}
	return left, ok
}

// close forgets what opens the chest, and what was opened by it. Copies that libraries made end with
// the process, which ends when it holds nothing.
func (v *Vault) close() {
	for _, text := range v.opened {
		clear(text)
	}
	v.identity, v.opened = nil, nil
}

func (v *Vault) drop(name string) {
	clear(v.kept[name].text)
	delete(v.kept, name)
}

// RemoveAll forgets everything.
func (v *Vault) RemoveAll() {
	v.close()
	for name := range v.kept {
		v.drop(name)
	}
}

// Answer answers one of the questions. The error is one of package query's.
func (v *Vault) Answer(name string, question []byte) ([]byte, error) {
	v.Forget()
	switch name {
	case openQuestion:
		var r openRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, query.ErrNo
		}
		return nil, v.open(r.Identity, time.Duration(r.Seconds)*time.Second)
	case closeQuestion:
		v.close()
		return nil, nil
	case keepQuestion:
		var r keepRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, query.ErrNo
		}
		v.drop(r.Name)
		if len(r.Text) > 0 {
			v.kept[r.Name] = keptSecret{r.Text, v.clock.In(agent.WorkingDay)}
		}
		return nil, nil
	case giveQuestion:
		kept, found := v.kept[string(question)]
		if !found {
			return nil, query.ErrNo
		}
		return kept.text, nil
	case untilQuestion, recipientQuestion, unsealQuestion:
		if v.identity == nil {
			return nil, query.ErrNo
		}
	}
	switch name {
	case untilQuestion:
		return v.clock.Date(v.ends).MarshalText()
	case recipientQuestion:
		return []byte(v.identity.Recipient().String()), nil
	case unsealQuestion:
		return v.unseal(question)
	}
	return nil, query.ErrVersion
}

// Open opens the chest for a time.
func (v *Vault) Open(key MasterKey, lasts time.Duration) error {
	return v.open(string(key.text.Reveal()), lasts)
}

func (v *Vault) open(identity string, lasts time.Duration) error {
	parsed, err := age.ParseX25519Identity(identity)
	if err != nil {
		return query.ErrNo
	}
	v.close()
	v.identity, v.ends, v.opened = parsed, v.clock.In(lasts), map[[sha256.Size]byte][]byte{}
	return nil
}

func (v *Vault) unseal(sealed []byte) ([]byte, error) {
	digest := sha256.Sum256(sealed)
	if text, found := v.opened[digest]; found {
		return text, nil
	}
	text, err := open(v.identity, sealed)
	if err != nil {
		return nil, query.ErrDamaged
	}
	if len(v.opened) < mostOpened {
		v.opened[digest] = text
	}
	return text, nil
}

// OpenInHolder lets the holder open the chest for a time. The holder must run.
func (c *Chest) OpenInHolder(key MasterKey, lifetime time.Duration) error {
	question, err := json.Marshal(openRequest{string(key.text.Reveal()), int64(lifetime / time.Second)})
	if err != nil {
		return err
	}
	_, err = query.Holder(c.socket, openQuestion, question)
	return err
}

// OpenedBy is the chest of a workstation inside the holder, where the vault opens it.
func OpenedBy(station *workstation.Station, v *Vault) *Chest {
	c := Of(station)
	c.recall = &recall{lists: map[string]listing{}}
	c.opener = func(sealed []byte) ([]byte, error) { return v.Answer(unsealQuestion, sealed) }
	return c
}

// Close makes the holder forget what opens the chest. It tells whether it was open.
func (c *Chest) Close() bool {
	_, open := c.OpenUntil()
	_, err := query.Holder(c.socket, closeQuestion, nil)
	return open && err == nil
}

// OpenUntil tells until when the holder opens the chest; false when it does not.
func (c *Chest) OpenUntil() (until time.Time, open bool) {
	answer, err := query.Holder(c.socket, untilQuestion, nil)
	return until, err == nil && until.UnmarshalText(answer) == nil
}
