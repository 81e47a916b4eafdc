package chest

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"

	"filippo.io/age"

	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/workstation"
)

// An opener opens what was sealed.
type opener func(sealed []byte) ([]byte, error)

// keyFile is what stands in the file that opens and seals everything, which is there twice.
type keyFile struct {
	Format    format `json:"format"`
	Kind      Kind   `json:"keep_in,omitempty"`   // where new secrets go
	Recipient string `json:"sealed_to,omitempty"` // to whom secrets are sealed
	Identity  []byte `json:"opener,omitempty"`    // what opens them, sealed by the passphrase
	Sum       string `json:"sum"`                 // of the three
}

func (k keyFile) sum() string {
	return sum([]byte(string(k.Kind) + "\x00" + k.Recipient + "\x00" + string(k.Identity)))
}

func (c *Chest) keyPaths() []string {
	return []string{filepath.Join(c.folder, "key.json"), filepath.Join(c.folder, "key-copy.json")}
}

// key reads the key file, or its copy where it is damaged.
func (c *Chest) key() (keyFile, error) {
	missing := 0
	for _, path := range c.keyPaths() {
		text, err := regular.ReadOwn(path, maxFile)
		if errors.Is(err, fs.ErrNotExist) {
			missing++
			continue
		}
		if err != nil && !errors.Is(err, regular.ErrNot) && !errors.Is(err, regular.ErrTooLarge) {
			return keyFile{}, err
		}
		switch k, err := parseKey(text); {
		case err == nil:
			return k, nil
		case errors.Is(err, ErrNewer), errors.Is(err, ErrOlder):
			return keyFile{}, fmt.Errorf("%w: %s", err, path)
		}
	}
	if missing == len(c.keyPaths()) {
		return keyFile{}, nil
	}
	return keyFile{}, fmt.Errorf("%w: %s", ErrDamaged, c.keyPaths()[0])
}

// parseKey reads a key file. The error is [ErrDamaged], [ErrOlder] or [ErrNewer].
func parseKey(text []byte) (k keyFile, err error) {
	if json.Unmarshal(text, &k) != nil {
		return keyFile{}, ErrDamaged
	}
	if err := k.Format.of(k.Sum != ""); err != nil {
		return keyFile{}, err
	}
	if k.Sum != k.sum() {
		return keyFile{}, ErrDamaged
	}
	return k, nil
}

// changeKey writes both, one after the other.
func (c *Chest) changeKey(do func(*keyFile) error) error {
	return c.change(func() error {
		k, err := c.key()
		if err != nil {
			return err
		}
		if err := do(&k); err != nil {
			return err
		}
		k.Format, k.Sum = version, k.sum()
		text, err := json.Marshal(k)
		if err != nil {
			return err
		}
		for _, path := range c.keyPaths() {
			if err := workstation.Replace(path, append(text, '\n'), 0o600); err != nil {
				return err
			}
		}
		return nil
	})
}

// Kind is where new secrets go: where the person settled it, else the place that the policy of the machine prefers.
func (c *Chest) Kind() (Kind, error) {
	k, err := c.key()
	if k.Kind == "" && c.rules != nil {
		rules, _ := c.rules() // one that cannot be read is told by Allows
		if places := rules.Places(); len(places) > 0 {
			k.Kind = Kind(places[0])
		}
	}
	return cmp.Or(k.Kind, Sealed), err
}

// Allows says whether the policy of the machine lets secrets go to a kind of place; the error is a
// [policy.ErrForbidden] otherwise.
func (c *Chest) Allows(kind Kind) error {
	if c.rules == nil {
		return nil
	}
	rules, err := c.rules()
	if err != nil {
		return err
	}
	return rules.Place(string(kind))
}

// SetKind settles where new secrets go.
func (c *Chest) SetKind(kind Kind) error {
	return c.changeKey(func(k *keyFile) error {
		k.Kind = kind
		return nil
	})
}

// Locked tells whether the chest has a passphrase already, as its sealed part needs one.
func (c *Chest) Locked() (bool, error) {
	k, err := c.key()
	return len(k.Identity) > 0, err
}

// Lock gives the chest a passphrase, or another one for the old one, and returns what opens it. The error
// is [ErrWrong] for another passphrase than the old one, also where another program has just given
// the chest its first, and that of ctx when it ends before anything is changed.
func (c *Chest) Lock(ctx context.Context, old, passphrase secret.Text) (MasterKey, error) {
	locked, err := c.Locked()
	if err != nil {
		return MasterKey{}, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return MasterKey{}, err
	}
	if locked {
		if identity, err = c.identity(ctx, old); err != nil {
			return MasterKey{}, err
		}
	}
	sealed, err := unless(ctx, func() ([]byte, error) { return c.sealBy(passphrase, []byte(identity.String())) })
	if err != nil {
		return MasterKey{}, err
	}
	err = c.changeKey(func(k *keyFile) error {
		if !locked && len(k.Identity) > 0 {
			return ErrWrong // another program was faster, with another passphrase
		}
		k.Recipient, k.Identity = identity.Recipient().String(), sealed
		return c.see(k.Recipient)
	})
	return keyOf(identity), err
}

func keyOf(identity *age.X25519Identity) MasterKey {
	return MasterKey{secret.New([]byte(identity.String()))}
}

// unless does a second's work that nothing can interrupt, and does not wait for it when ctx ends.
func unless[T any](ctx context.Context, work func() (T, error)) (result T, err error) {
	done := make(chan struct{})
	var worked T
	var workErr error
	go func() {
		defer close(done)
		worked, workErr = work()
	}()
	select {
	case <-done:
		return worked, workErr
	case <-ctx.Done():
		return result, ctx.Err()
	}
}

// sealBy seals by a passphrase, which is as hard to guess as the library makes it: about a second of
// work, once a working day.
func (c *Chest) sealBy(passphrase secret.Text, text []byte) ([]byte, error) {
	recipient, err := age.NewScryptRecipient(string(passphrase.Reveal()))
	if err != nil {
		return nil, err
	}
	if c.work > 0 {
		recipient.SetWorkFactor(c.work)
	}
	return sealTo(recipient, text)
}

func sealTo(recipient age.Recipient, text []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, recipient)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, err
	}
	err = w.Close() // only now is all of it in b
	return b.Bytes(), err
}

// identity opens by the passphrase what opens everything else.
func (c *Chest) identity(ctx context.Context, passphrase secret.Text) (*age.X25519Identity, error) {
	k, err := c.key()
	switch {
	case err != nil:
		return nil, err
	case len(k.Identity) == 0:
		return nil, ErrNoChest
	}
	by, err := age.NewScryptIdentity(string(passphrase.Reveal()))
	if err != nil {
		return nil, ErrWrong
	}
	text, err := unless(ctx, func() ([]byte, error) { return open(by, k.Identity) })
	var wrong *age.NoIdentityMatchError
	switch {
	case errors.As(err, &wrong):
		return nil, ErrWrong
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, ErrDamaged
	}
	return age.ParseX25519Identity(string(text))
}

func open(identity age.Identity, sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), identity)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, 1<<20))
}

// seal seals a text, for which nothing needs to be opened: to whom this computer has seen the chest
// to belong. Where it has seen nothing yet (another computer made the chest), the chest must be open.
func (c *Chest) seal(text []byte) ([]byte, error) {
	k, err := c.key()
	switch {
	case err != nil:
		return nil, err
	case k.Recipient == "":
		return nil, ErrNoChest
	}
	if err := c.belongs(k.Recipient); err != nil {
		return nil, err
	}
	recipient, err := age.ParseX25519Recipient(k.Recipient)
	if err != nil {
		return nil, ErrDamaged
	}
	return sealTo(recipient, text)
}

// belongs makes sure that whoever opens the chest is a recipient.
func (c *Chest) belongs(recipient string) error {
	seen, err := c.lastSeen()
	if err != nil {
		return err
	}
	owner := seen.Recipient
	if owner == "" {
		answer, err := query.Holder(c.socket, recipientQuestion, nil)
		if err != nil {
			return fmt.Errorf("the chest was not opened on this computer yet: %w", ErrClosed)
		}
		owner = string(answer)
	}
	if owner != recipient {
		return ErrSeal
	}
	if seen.Recipient == "" {
		return c.see(recipient)
	}
	return nil
}

// Sealable tells whether secrets can be put into the sealed part without opening it.
func (c *Chest) Sealable() bool {
	k, err := c.key()
	return err == nil && k.Recipient != "" && c.belongs(k.Recipient) == nil
}

// Open opens the chest for this process, and gives the holder what opens it when it runs. The error
// is [ErrSeal] where new secrets would be sealed to somebody else, and that of ctx when it ends.
func (c *Chest) Open(ctx context.Context, passphrase secret.Text) (MasterKey, error) {
	identity, err := c.identity(ctx, passphrase)
	if err != nil {
		return MasterKey{}, err
	}
	k, err := c.key()
	if err != nil {
		return MasterKey{}, err
	}
	if recipient := identity.Recipient().String(); recipient != k.Recipient {
		return MasterKey{}, ErrSeal
	} else if err := c.see(recipient); err != nil {
		return MasterKey{}, err
	}
	return keyOf(identity), c.OpenWith(keyOf(identity))
}

// OpenWith opens the chest for this process.
func (c *Chest) OpenWith(key MasterKey) error {
	identity, err := age.ParseX25519Identity(string(key.text.Reveal()))
	if err != nil {
		return ErrDamaged
	}
	c.opener = func(sealed []byte) ([]byte, error) { return open(identity, sealed) }
	return nil
}

// A MasterKey is what opens a chest, for the holder.
type MasterKey struct{ text secret.Text }

// unseal opens a text: by this process, or by the holder. The error is [ErrClosed] or [ErrDamaged].
func (c *Chest) unseal(sealed []byte) ([]byte, error) {
	if c.opener == nil {
		text, err := query.Holder(c.socket, unsealQuestion, sealed)
		switch {
		case errors.Is(err, query.ErrDamaged):
			return nil, ErrDamaged
		case err != nil:
			return nil, closed(err)
		}
		return text, nil
	}
	text, err := c.opener(sealed)
	switch {
	case errors.Is(err, query.ErrNo): // it was closed meanwhile
		return nil, ErrClosed
	case err != nil:
		return nil, ErrDamaged
	}
	return text, nil
}

// closed is [ErrClosed], and says so where the holder that may have it open does not respond.
func closed(err error) error {
	if errors.Is(err, query.ErrStuck) {
		return fmt.Errorf("%w: %w", ErrClosed, err)
	}
	return ErrClosed
}
