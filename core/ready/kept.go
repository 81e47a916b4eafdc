package ready

import (
	"fmt"

	"unicrux/core/desktop"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
	"unicrux/core/workstation"
)

// atDesktop stands for the desktop's secret service where else a host's name stands.
const atDesktop = "the desktop"

// actKeep is what a step did that gave a passphrase to the desktop.
const actKeep = "keep-passphrase"

// keptName is the name of a key's passphrase at the desktop: the key may move, and its
// public half stays the same.
func keptName(pair *sshkey.Pair) string {
	return "passphrase of " + sshkey.Fingerprint(pair.Public)
}

// KeptPassphrase asks the desktop for the passphrase of a key. A wrong one, from before the
// lock was changed, is none.
func KeptPassphrase(pair *sshkey.Pair) (secret.Text, bool) {
	if pair.Public == nil || !desktop.Answers() {
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

// PassphraseKept tells whether the desktop keeps a passphrase for the key.
func PassphraseKept(pair *sshkey.Pair) bool {
	if pair.Public == nil || !pair.Locked || !desktop.Answers() {
		return false
	}
	_, err := desktop.Get(keptName(pair))
	return err == nil
}

func (p Place) keepPassphrase(batch *workstation.Batch, load Load) error {
	if load.Pair.Public == nil {
		return sshkey.ErrLocked
	}
	if !load.Pair.Locked {
		return fmt.Errorf("%s: %w", load.Pair.Name(), ErrStill)
	}
	name := keptName(load.Pair)
	step := workstation.HostStep{Host: atDesktop, Act: actKeep, Data: map[string]string{"name": name}}
	words := fmt.Sprintf("Let the desktop's secret service keep the passphrase of %s.", load.Pair.Name())
	return batch.Act(words, step, func() (map[string]string, error) {
		return nil, desktop.Keep(name, load.Passphrase)
	})
}

// FollowLock keeps what the desktop has of a key's passphrase in step with its lock. Where it
// has none, nothing happens.
func FollowLock(pair *sshkey.Pair, passphrase secret.Text) error {
	switch {
	case !PassphraseKept(pair):
		return nil
	case passphrase.Empty():
		return desktop.Forget(keptName(pair))
	}
	return desktop.Keep(keptName(pair), passphrase)
}

// ForgetPassphrase makes the desktop forget the passphrase of a key, if it keeps one.
func ForgetPassphrase(pair *sshkey.Pair) (forgot bool, err error) {
	if !PassphraseKept(pair) {
		return false, nil
	}
	return true, desktop.Forget(keptName(pair))
}
