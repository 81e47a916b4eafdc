package chest

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"filippo.io/age"

	"Unicrux/core/agent"
	"Unicrux/core/query"
	"Unicrux/core/workstation"
)

// The questions that a [Vault] answers, in the holder (extensions of the agent protocol).
const (
	openQuestion   = "open-chest@unicrux"
	closeQuestion  = "close-chest@unicrux"
	untilQuestion  = "chest-until@unicrux"
	unsealQuestion = "unseal@unicrux"
	keepQuestion   = "keep@unicrux"
	giveQuestion   = "give@unicrux"
)

// A Vault is the holder's part: it opens what is sealed, for a set time, and has the secrets
// that are kept nowhere else. What opens the chest never leaves it.
type Vault struct {
	now func() time.Time

	mu       sync.Mutex
	identity *age.X25519Identity
	ends     time.Time
	kept     map[string]keptSecret
	opened   map[[sha256.Size]byte][]byte // what was unsealed already, by the digest of what it was: git asks for the same again
}

// mostOpened bounds what is remembered of that.
const mostOpened = 256

type keptSecret struct {
	text []byte
	ends time.Time
}

// NewVault makes one that is closed. now is the clock.
func NewVault(now func() time.Time) *Vault { return &Vault{now: now, kept: map[string]keptSecret{}} }

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

// Forget drops what has ended, and tells when the next ends; ok is false when nothing is held.
func (v *Vault) Forget() (next time.Time, ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	now := v.now().Round(0)
	if v.identity != nil && !v.ends.After(now) {
		v.identity, v.opened = nil, nil
	}
	for name, kept := range v.kept {
		if !kept.ends.After(now) {
			delete(v.kept, name)
		} else if !ok || kept.ends.Before(next) {
			next, ok = kept.ends, true
		}
	}
	if v.identity != nil && (!ok || v.ends.Before(next)) {
		next, ok = v.ends, true
	}
	return next, ok
}

// RemoveAll forgets everything.
func (v *Vault) RemoveAll() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.identity, v.opened, v.kept = nil, nil, map[string]keptSecret{}
}

var errNotHere = errors.New("not here")

// Answer answers one of the questions; known is false for any other.
func (v *Vault) Answer(name string, question []byte) (answer []byte, known bool, err error) {
	v.Forget()
	v.mu.Lock()
	defer v.mu.Unlock()
	now := v.now().Round(0)
	switch name {
	case openQuestion:
		var r openRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, true, err
		}
		return nil, true, v.open(r.Identity, now.Add(time.Duration(r.Seconds)*time.Second))
	case closeQuestion:
		v.identity, v.opened = nil, nil
		return nil, true, nil
	case untilQuestion:
		if v.identity == nil {
			return nil, true, errNotHere
		}
		answer, err := v.ends.MarshalText()
		return answer, true, err
	case unsealQuestion:
		if v.identity == nil {
			return nil, true, errNotHere
		}
		text, err := v.unseal(question)
		return text, true, err
	case keepQuestion:
		var r keepRequest
		if err := json.Unmarshal(question, &r); err != nil {
			return nil, true, err
		}
		delete(v.kept, r.Name)
		if len(r.Text) > 0 {
			v.kept[r.Name] = keptSecret{r.Text, now.Add(agent.WorkingDay)}
		}
		return nil, true, nil
	case giveQuestion:
		kept, found := v.kept[string(question)]
		if !found {
			return nil, true, errNotHere
		}
		return kept.text, true, nil
	}
	return nil, false, nil
}

// Open opens the chest for a time.
func (v *Vault) Open(key Key, lifetime time.Duration) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.open(string(key.text.Reveal()), v.now().Round(0).Add(lifetime))
}

func (v *Vault) open(identity string, ends time.Time) error {
	parsed, err := age.ParseX25519Identity(identity)
	if err == nil {
		v.identity, v.ends, v.opened = parsed, ends, map[[sha256.Size]byte][]byte{}
	}
	return err
}

func (v *Vault) unseal(sealed []byte) ([]byte, error) {
	digest := sha256.Sum256(sealed)
	if text, found := v.opened[digest]; found {
		return text, nil
	}
	text, err := open(v.identity, sealed)
	if err == nil && len(v.opened) < mostOpened {
		v.opened[digest] = text
	}
	return text, err
}

// OpenInHolder lets the holder open the chest for a time. The holder must run.
func (c *Chest) OpenInHolder(key Key, lifetime time.Duration) error {
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
	c.opener = func(sealed []byte) ([]byte, error) {
		text, _, err := v.Answer(unsealQuestion, sealed)
		return text, err
	}
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
