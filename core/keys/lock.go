package keys

import (
	"fmt"

	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// Relock sets, changes or removes the passphrase of a key: old opens it, new locks it from
// now on, and either may be empty for none. The new file is in OpenSSH's format.
func Relock(p site.Site, batch *workstation.Batch, pair *sshkey.Pair, old, new secret.Text) error {
	if !pair.Locked && new.Empty() { // it is so already
		return nil
	}
	if new.Empty() {
		if err := MayBeUnlocked(p.Station); err != nil {
			return err
		}
	}
	private, err := pair.Raw(old)
	if err != nil {
		return err
	}
	text, err := sshkey.Write(private, pair.Comment, sshkey.OpenSSH, new)
	if err != nil {
		return err
	}
	words := fmt.Sprintf("Lock %s by another passphrase.", pair.Name())
	switch {
	case new.Empty():
		words = fmt.Sprintf("Take the passphrase off %s.", pair.Name())
	case !pair.Locked:
		words = fmt.Sprintf("Lock %s by a passphrase.", pair.Name())
	}
	return batch.Rewrite(pair.Path, words, func([]byte) ([]byte, error) { return text, nil })
}

// Save writes a key in another form to a new file. The private forms are locked by the
// passphrase unless it is empty.
func Save(p site.Site, batch *workstation.Batch, pair *sshkey.Pair, form sshkey.Form, out string, old,
	new secret.Text) error {
	out, err := p.Station.InFolder(out)
	if err != nil {
		return err
	}
	words := fmt.Sprintf("Write %s in the form %s.", pair.Name(), form)
	switch {
	case form == sshkey.RFC4716 && pair.Public == nil:
		return sshkey.ErrLocked
	case form == sshkey.RFC4716:
		return batch.Create(out, words, 0o644, sshkey.Write4716(pair.Public, pair.Comment), false)
	case pair.Alone && form == sshkey.OpenSSH:
		return batch.Create(out, words, 0o644, []byte(sshkey.Line(pair.Public, pair.Comment)+"\n"), false)
	case pair.Alone:
		return fmt.Errorf("%s: %w", form, sshkey.ErrFormKind)
	}
	if new.Empty() {
		if err := MayBeUnlocked(p.Station); err != nil {
			return err
		}
	}
	private, err := pair.Raw(old)
	if err != nil {
		return err
	}
	text, err := sshkey.Write(private, pair.Comment, form, new)
	if err != nil {
		return err
	}
	return batch.Create(out, words, 0o600, text, true)
}
