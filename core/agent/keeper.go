package agent

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"net"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"anchorage.example/unicrux/core/lifetime"
)

// WorkingDay is how long a key is held for which nobody said how long: ssh says nothing
// when it hands a key over by itself ("AddKeysToAgent yes", ssh_config(5)).
const WorkingDay = 8 * time.Hour

// lockPause is how long an answer to a wrong passphrase for unlocking takes, so that nobody guesses
// quickly.
const lockPause = 200 * time.Millisecond

// Reasons for which a keeper does not do what it is asked, for errors.Is.
var (
	errRetired   = errors.New("this agent is shutting down")
	errLocked    = errors.New("this agent is locked")
	errNotLocked = errors.New("this agent is not locked, or by another passphrase")
	errNoKey     = errors.New("this agent holds no such key")
	errRefused   = errors.New("the person, or a constraint of the key, does not allow this")
	errNoAsking  = errors.New("a key that asks each time needs a program that asks (SSH_ASKPASS)")
)

// A Keeper is an ssh agent that forgets every key on time ([lifetime.Clock]). What a key was given
// with (a lifetime, asking each time, destinations) it keeps; a constraint that it does not know it
// refuses, and the key with it. It speaks to several clients at once: [Keeper.Serve].
type Keeper struct {
	clock lifetime.Clock
	ask   func(question string) bool // asks the person; nil where nobody can be asked

	mu      sync.Mutex
	held    []*heldKey
	retired bool
	lock    []byte        // what unlocks it, hashed; nil while it is not locked
	changed chan struct{} // has one in it when what is held may have changed
}

// A heldKey is one private key, and what it was given with.
type heldKey struct {
	blob         []byte // the public key (RFC 4253, section 6.6)
	comment      string // uncleaned
	signer       ssh.Signer
	private      any // for wiping
	ends         lifetime.Deadline
	confirm      bool
	destinations []destination // empty for anywhere
}

// NewKeeper makes a keeper that holds nothing. ask asks the person a question, for keys that were
// given to be asked about each time; nil where nobody can be asked.
func NewKeeper(clock lifetime.Clock, ask func(question string) bool) *Keeper {
	return &Keeper{clock: clock, ask: ask, changed: make(chan struct{}, 1)}
}

// Changed tells when it is time to call [Keeper.Forget] anew.
func (k *Keeper) Changed() <-chan struct{} { return k.changed }

func (k *Keeper) tell() {
	select {
	case k.changed <- struct{}{}:
	default:
	}
}

// Serve speaks to one client until it leaves.
func (k *Keeper) Serve(conn net.Conn) { _ = agent.ServeAgent(&session{keeper: k}, conn) }

// Forget drops what has ended, and tells how long it is until the next key ends; ok is false when
// nothing is held.
func (k *Keeper) Forget() (left time.Duration, ok bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.forget()
}

func (k *Keeper) forget() (left time.Duration, ok bool) {
	k.drop(func(h *heldKey) bool { return k.clock.Passed(h.ends) })
	for _, h := range k.held {
		if until := k.clock.Left(h.ends); !ok || until < left {
			left, ok = until, true
		}
	}
	return left, ok
}

// drop forgets keys, and wipes what can be reached of them.
func (k *Keeper) drop(which func(*heldKey) bool) {
	k.held = slices.DeleteFunc(k.held, func(h *heldKey) bool {
		if !which(h) {
			return false
		}
		wipe(h.private)
		return true
	})
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

// RemoveAll forgets everything.
func (k *Keeper) RemoveAll() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.drop(func(*heldKey) bool { return true })
	k.lock = nil
	k.tell()
}

// add takes a key for its lifetime, or for a [WorkingDay].
func (k *Keeper) add(key agent.AddedKey) error {
	h, err := k.taken(key)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case k.retired:
		return errRetired
	case k.lock != nil:
		return errLocked
	}
	k.drop(func(old *heldKey) bool { return bytes.Equal(old.blob, h.blob) })
	k.held = append(k.held, h)
	k.tell()
	return nil
}

// taken is what is held of a key that is given.
func (k *Keeper) taken(key agent.AddedKey) (*heldKey, error) {
	signer, err := ssh.NewSignerFromKey(key.PrivateKey)
	if err == nil && key.Certificate != nil {
		signer, err = ssh.NewCertSigner(key.Certificate, signer)
	}
	if err != nil {
		return nil, err
	}
	if key.ConfirmBeforeUse && k.ask == nil {
		return nil, errNoAsking
	}
	lasts := WorkingDay
	if key.LifetimeSecs > 0 {
		lasts = time.Duration(key.LifetimeSecs) * time.Second
	}
	h := &heldKey{blob: signer.PublicKey().Marshal(), comment: key.Comment, signer: signer, private: key.PrivateKey,
		ends: k.clock.In(lasts), confirm: key.ConfirmBeforeUse}
	for _, extension := range key.ConstraintExtensions {
		if h.destinations, err = readDestinations(extension); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// remove forgets one key.
func (k *Keeper) remove(key ssh.PublicKey) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.lock != nil {
		return errLocked
	}
	blob, before := key.Marshal(), len(k.held)
	k.drop(func(h *heldKey) bool { return bytes.Equal(h.blob, blob) })
	k.tell()
	if len(k.held) == before {
		return errNoKey
	}
	return nil
}

// now lists what is held at this moment: nothing while it is locked.
func (k *Keeper) now() []*heldKey {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.forget(); k.lock != nil {
		return nil
	}
	return slices.Clone(k.held)
}

// Lock makes the keeper answer as if it held nothing, until it is unlocked. It forgets on time all
// the same.
func (k *Keeper) Lock(passphrase []byte) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.lock != nil {
		return errLocked
	}
	salt := make([]byte, sha256.Size)
	_, _ = rand.Read(salt) // never fails (crypto/rand)
	k.lock = append(salt, lockSum(salt, passphrase)...)
	return nil
}

// Unlock takes the lock off again.
func (k *Keeper) Unlock(passphrase []byte) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.lock == nil {
		return errNotLocked
	}
	salt, sum := k.lock[:sha256.Size], k.lock[sha256.Size:]
	if subtle.ConstantTimeCompare(sum, lockSum(salt, passphrase)) == 0 {
		time.Sleep(lockPause) // nobody else is answered meanwhile, so many guesses at once take as long
		return errNotLocked
	}
	k.lock = nil
	return nil
}

func lockSum(salt, passphrase []byte) []byte {
	sum := sha256.Sum256(slices.Concat(salt, passphrase))
	return sum[:]
}
