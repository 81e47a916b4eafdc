package keys

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// atDesktop stands for the desktop's secret service where else a host's name stands.
const atDesktop = "the desktop"

// ActKeepPassphrase is what a step did that gave a passphrase to the desktop.
const ActKeepPassphrase = "keep-passphrase"

// keptName is the name of a key's passphrase at the desktop: the key may move, and its
// public half stays the same.
func keptName(pair *sshkey.Pair) string {
	return "passphrase of " + sshkey.Fingerprint(pair.Public)
}

// keptFile lists the fingerprints of keys whose passphrases were given to the desktop. Without
// it the desktop would have to be asked each time, and would ask the person to open it.
func keptFile(station *workstation.Station) string {
	return filepath.Join(station.Config, "kept-passphrases")
}

// PassphraseKept tells whether the desktop was given the passphrase of a key.
func PassphraseKept(p site.Site, pair *sshkey.Pair) bool {
	if pair.Public == nil || !pair.Locked {
		return false
	}
	text, err := regular.Read(keptFile(p.Station), regular.Settings) // no file, none kept
	return err == nil && slices.Contains(strings.Fields(string(text)), sshkey.Fingerprint(pair.Public))
}

// note writes down that the desktop keeps the passphrase of a key, or does not any more.
func note(p site.Site, batch *workstation.Batch, pair *sshkey.Pair, kept bool) error {
	fingerprint := sshkey.Fingerprint(pair.Public)
	words := fmt.Sprintf("Note that the desktop keeps the passphrase of %s.", pair.Name())
	if !kept {
		words = fmt.Sprintf("Note that the desktop no longer keeps the passphrase of %s.", pair.Name())
	}
	_, err := batch.Edit(keptFile(p.Station), words, 0o600, func(old []byte) ([]byte, error) {
		list := slices.DeleteFunc(strings.Fields(string(old)), func(f string) bool { return f == fingerprint })
		if kept {
			list = append(list, fingerprint)
		}
		return []byte(strings.Join(append(list, ""), "\n")), nil
	})
	return err
}

// KeptPassphrase asks the desktop for the passphrase of a key, if it was given it. A wrong
// one, from before the lock was changed elsewhere, is none.
func KeptPassphrase(p site.Site, pair *sshkey.Pair) (secret.Text, bool) {
	if !PassphraseKept(p, pair) {
		return secret.Text{}, false
	}
	text, err := desktop.Get(keptName(pair))
	if err != nil {
		return secret.Text{}, false
	}
	if _, err := pair.Raw(text); err != nil {
		return secret.Text{}, false
	}
	return text, true
}

// ErrNoPassphrase is returned when the passphrase of a key is to be kept that has none.
var ErrNoPassphrase = fault.New("key-without-passphrase", fault.Refused, "the key has no passphrase")

func keepPassphrase(ctx context.Context, p site.Site, batch *workstation.Batch, load Loading) error {
	if load.Pair.Public == nil {
		return sshkey.ErrLocked
	}
	if !load.Pair.Locked {
		return fmt.Errorf("%s: %w", load.Pair.Name(), ErrNoPassphrase)
	}
	name := keptName(load.Pair)
	step := workstation.HostStep{Host: atDesktop, Act: ActKeepPassphrase, Data: map[string]string{"name": name}}
	words := fmt.Sprintf("Let the desktop's secret service keep the passphrase of %s.", load.Pair.Name())
	err := batch.Act(ctx, words, step, func() (map[string]string, error) {
		return nil, desktop.Keep(name, load.Passphrase)
	})
	if err != nil {
		return err
	}
	return note(p, batch, load.Pair, true)
}

// FollowLock keeps what the desktop has of a key's passphrase in step with its lock. Where it
// has none, nothing happens.
func FollowLock(p site.Site, batch *workstation.Batch, pair *sshkey.Pair, passphrase secret.Text) error {
	switch {
	case batch.Dry || !PassphraseKept(p, pair):
		return nil
	case passphrase.Empty():
		_, err := ForgetPassphrase(p, batch, pair)
		return err
	}
	return desktop.Keep(keptName(pair), passphrase)
}

// ForgetPassphrase makes the desktop forget the passphrase of a key, if it was given it.
func ForgetPassphrase(p site.Site, batch *workstation.Batch, pair *sshkey.Pair) (forgot bool, err error) {
	if !PassphraseKept(p, pair) {
		return false, nil
	}
	if err := desktop.Forget(keptName(pair)); err != nil && !errors.Is(err, desktop.ErrNone) {
		return false, err
	}
	return true, note(p, batch, pair, false)
}
