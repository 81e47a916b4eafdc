package agent

import (
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"Unicrux/core/query"
)

// WorkingDay is how long a key is held for which nobody said how long: ssh says nothing
// when it hands a key over by itself ("AddKeysToAgent yes", ssh_config(5)).
const WorkingDay = 8 * time.Hour

// holdingsQuestion is the name of the one extension that a [Keeper] knows (section 3.8 of
// the draft): what it holds, and until when.
const holdingsQuestion = "holdings@unicrux"

// Reasons for which a keeper does not take a key, for errors.Is.
var (
	errRetired = errors.New("this agent is about to end")
	errNoLock  = errors.New("this agent cannot be locked; it can be made to forget")
)

// A Holding is a key that a keeper holds.
type Holding struct {
	Blob    []byte    // the public half (RFC 4253, section 6.6)
	Comment string    // uncleaned
	Ends    time.Time // when it is forgotten
}

// A Keeper is an ssh agent that forgets every key on time. Time is that of the calendar,
// not of a running process: a laptop that slept over night has forgotten in the morning.
// Constraints that it cannot keep it refuses, and the key with them.
type Keeper struct {
	agent.ExtendedAgent // signs

	now     func() time.Time
	mu      sync.Mutex
	held    []Holding
	retired bool
	vault   Vault         // answers further questions; nil for none
	changed chan struct{} // has one in it when what is held may have changed
}

// A Vault holds what is not a key, and answers questions of its own.
type Vault interface {
	// Forget drops what has ended, and tells when the next ends; ok is false when nothing is held.
	Forget() (next time.Time, ok bool)
	RemoveAll()
	// Answer answers a question; known is false for one that is not its own.
	Answer(name string, question []byte) (answer []byte, known bool, err error)
}

// NewKeeper makes a keeper that holds nothing. now is the clock; vault may be nil.
func NewKeeper(now func() time.Time, vault Vault) *Keeper {
	return &Keeper{ExtendedAgent: agent.NewKeyring().(agent.ExtendedAgent), now: now, vault: vault, changed: make(chan struct{}, 1)}
}

// Changed tells when it is time to call [Keeper.Forget] anew.
func (k *Keeper) Changed() <-chan struct{} { return k.changed }

func (k *Keeper) tell() {
	select {
	case k.changed <- struct{}{}:
	default:
	}
}

// calendar is the time without the clock of the process, which stands still in sleep.
func (k *Keeper) calendar() time.Time { return k.now().Round(0) }

// Forget drops what has ended, and returns when the next key ends; ok is false when
// nothing is held.
func (k *Keeper) Forget() (next time.Time, ok bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.forget()
}

func (k *Keeper) forget() (next time.Time, ok bool) {
	now := k.calendar()
	k.held = slices.DeleteFunc(k.held, func(h Holding) bool {
		if h.Ends.After(now) {
			return false
		}
		_ = k.ExtendedAgent.Remove(&agent.Key{Blob: h.Blob}) // it may have been replaced or taken out
		return true
	})
	for _, h := range k.held {
		if !ok || h.Ends.Before(next) {
			next, ok = h.Ends, true
		}
	}
	if k.vault != nil {
		if ends, holds := k.vault.Forget(); holds && (!ok || ends.Before(next)) {
			next, ok = ends, true
		}
	}
	return next, ok
}

// Retire makes the keeper take no more keys, provided that it holds none. Whoever loads a
// key at this very moment is refused, and can start another keeper.
func (k *Keeper) Retire() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if _, holds := k.forget(); holds {
		return false
	}
	k.retired = true
	return true
}

// Add takes a key for its lifetime, or for a [WorkingDay].
func (k *Keeper) Add(key agent.AddedKey) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.retired {
		return errRetired
	}
	lifetime := WorkingDay
	if key.LifetimeSecs > 0 {
		lifetime = time.Duration(key.LifetimeSecs) * time.Second
	}
	key.LifetimeSecs = 0 // the ring counts by the clock of the process
	if err := k.ExtendedAgent.Add(key); err != nil {
		return err
	}
	blob, err := blobOf(key)
	if err != nil {
		return err
	}
	k.drop(blob)
	k.held = append(k.held, Holding{Blob: blob, Comment: key.Comment, Ends: k.calendar().Add(lifetime)})
	k.tell()
	return nil
}

func blobOf(key agent.AddedKey) ([]byte, error) {
	if key.Certificate != nil {
		return key.Certificate.Marshal(), nil
	}
	signer, err := ssh.NewSignerFromKey(key.PrivateKey)
	if err != nil {
		return nil, err
	}
	return signer.PublicKey().Marshal(), nil
}

func (k *Keeper) drop(blob []byte) {
	k.held = slices.DeleteFunc(k.held, func(h Holding) bool { return string(h.Blob) == string(blob) })
}

// Remove forgets one key.
func (k *Keeper) Remove(key ssh.PublicKey) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.drop(key.Marshal())
	k.tell()
	return k.ExtendedAgent.Remove(key)
}

// RemoveAll forgets everything.
func (k *Keeper) RemoveAll() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.held = nil
	if k.vault != nil {
		k.vault.RemoveAll()
	}
	k.tell()
	return k.ExtendedAgent.RemoveAll()
}

// List lists what is held now.
func (k *Keeper) List() ([]*agent.Key, error) {
	k.Forget()
	return k.ExtendedAgent.List()
}

// Sign signs by a key that is still held.
func (k *Keeper) Sign(key ssh.PublicKey, data []byte) (*ssh.Signature, error) {
	return k.SignWithFlags(key, data, 0)
}

// SignWithFlags signs by a key that is still held.
func (k *Keeper) SignWithFlags(key ssh.PublicKey, data []byte, flags agent.SignatureFlags) (*ssh.Signature, error) {
	k.Forget()
	return k.ExtendedAgent.SignWithFlags(key, data, flags)
}

// Lock is refused: the ring could forget nothing while it is locked.
func (k *Keeper) Lock([]byte) error { return errNoLock }

// Unlock is refused as well.
func (k *Keeper) Unlock([]byte) error { return errNoLock }

// Extension answers what is held, and what the vault answers.
func (k *Keeper) Extension(name string, question []byte) ([]byte, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if name != holdingsQuestion {
		if k.vault == nil || k.retired {
			return nil, agent.ErrExtensionUnsupported
		}
		before, held := k.vault.Forget()
		answer, known, err := k.vault.Answer(name, question)
		if !known {
			return nil, agent.ErrExtensionUnsupported
		}
		if after, holds := k.vault.Forget(); holds != held || !after.Equal(before) {
			k.tell()
		}
		return append([]byte{query.Response}, answer...), err
	}
	k.forget()
	text, err := json.Marshal(append([]Holding{}, k.held...))
	return append([]byte{query.Response}, text...), err
}

// ErrNotKeeper is returned for an agent that is not ours.
var ErrNotKeeper = errors.New("another agent, which does not tell how long it holds a key")

// Holdings asks a keeper what it holds, and until when.
func (c *Conn) Holdings() ([]Holding, error) {
	if err := c.conn.SetDeadline(time.Now().Add(patience)); err != nil {
		return nil, err
	}
	answer, err := c.client.Extension(holdingsQuestion, nil)
	var holdings []Holding
	if err != nil || len(answer) < 1 || json.Unmarshal(answer[1:], &holdings) != nil {
		return nil, ErrNotKeeper
	}
	return holdings, c.conn.SetDeadline(time.Time{})
}

// UnloadAll takes every key out of the agent.
func (c *Conn) UnloadAll() error { return c.client.RemoveAll() }
