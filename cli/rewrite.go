package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

// relockOptions are where the old and the new passphrase of a key come from.
type relockOptions struct {
	old, new string
	none     bool
}

func (o *relockOptions) addFlags(command *cobra.Command, none string) {
	flags := command.Flags()
	flags.Var(named(&o.old, "FILE"), "passphrase-from",
		"read the passphrase that opens the key from FILE, or - for standard input")
	flags.Var(named(&o.new, "FILE"), "new-passphrase-from",
		"read the new passphrase from FILE, or - for standard input")
	flags.BoolVar(&o.none, "no-passphrase", false, none)
}

// validate tells what contradicts itself, or the policy of the machine.
func (o *relockOptions) validate(a *app) error {
	switch {
	case o.none && o.new != "":
		return usage("--new-passphrase-from and --no-passphrase contradict each other")
	case o.old == "-" && o.new == "-":
		return usage("only one of --passphrase-from and --new-passphrase-from can read standard input")
	case o.none:
		return keys.MayBeUnlocked(a.station)
	}
	return nil
}

// relockPassphrases gets the one that opens the pair, where it is locked, and the new one.
func relockPassphrases(a *app, o *relockOptions, pair *sshkey.Pair) (old, new secret.Text, err error) {
	if pair.Locked {
		if old, err = a.asker(o.old)(pair); err != nil {
			return old, new, err
		}
		if _, err := pair.Raw(old); err != nil { // before a new one is asked for in vain
			return old, new, err
		}
	}
	new, err = a.newPassphrase(o.new, o.none)
	return old, new, err
}

func keyLock(a *app) *cobra.Command {
	var o relockOptions
	command := &cobra.Command{
		Use:   "passphrase KEY",
		Short: "Set, change or remove a key's passphrase",
		Long: `Sets the passphrase of a key, changes it, or removes it with --no-passphrase. The public
key stays the same, so hosts notice nothing. The earlier content of the file is not
recorded, because it is a secret: undo cannot take this back.`,
		RunE: func(_ *cobra.Command, args []string) error { return runLock(a, &o, args[0]) },
	}
	o.addFlags(command, "remove the passphrase: whoever copies the file can use the key")
	return command
}

func runLock(a *app, o *relockOptions, name string) error {
	if err := o.validate(a); err != nil {
		return err
	}
	place, pair, err := keyAt(a, name)
	if err != nil {
		return err
	}
	if !pair.Locked && o.none {
		return a.show(a.style().Sentences(pair.Name()+" has no passphrase already."),
			render.KeyDocument(viewOf(a, pair), 0))
	}
	if !a.dry {
		a.progress("undo cannot take this back: what was in the key's file before is a secret, and not recorded.")
	}
	old, new, err := relockPassphrases(a, o, pair)
	if err != nil {
		return err
	}
	batch := a.begin("Change the lock of " + pair.Name() + ".")
	if err := keys.Relock(place, batch, pair, old, new); err != nil {
		return err
	}
	if err := keys.FollowLock(place, batch, pair, new); err != nil {
		return err
	}
	pair.Locked = !new.Empty()
	words := pair.Name() + " has the new passphrase."
	if !pair.Locked {
		words = pair.Name() + " no longer has a passphrase: whoever copies the file can use it."
	}
	return a.showChange(batch, a.style().Sentences(words), render.KeyDocument(viewOf(a, pair), number(batch)))
}

func keySave(a *app) *cobra.Command {
	var o relockOptions
	var form sshkey.Form
	var out string
	command := &cobra.Command{
		Use:   "save KEY --format FORMAT --out FILE",
		Short: "Write a key in another open format",
		Long: `Writes a key to a new file in another format: openssh, pkcs8, pkcs1 (rsa), sec1 (ecdsa), or
rfc4716 for the public key. A public key without its private key, in whatever format, is
written as the line that ssh reads by the format openssh. The first two can have a
passphrase; pkcs1 and sec1 protect a key too weakly and need --no-passphrase.`,
		RunE: func(_ *cobra.Command, args []string) error { return runSave(a, &o, args[0], form, out) },
	}
	o.addFlags(command, "write it without a lock")
	command.Flags().Var(oneOf(&form, sshkey.Forms()...), "format", "the file format")
	command.Flags().Var(named(&out, "FILE"), "out", "the file to write; it must not be there yet")
	return command
}

func runSave(a *app, o *relockOptions, name string, form sshkey.Form, out string) error {
	if err := o.validate(a); err != nil {
		return err
	}
	if form == "" || out == "" {
		return usage("--format accepts openssh, pkcs8, pkcs1, sec1 or rfc4716, and --out a file")
	}
	batch, err := writeForm(a, o, name, form, out)
	if err != nil {
		return err
	}
	words := fmt.Sprintf("Wrote %s in the form %s to %s.", filepath.Base(name), form, out)
	return a.showDone(batch, words)
}

// writeForm writes a key in another form, and says nothing.
func writeForm(a *app, o *relockOptions, name string, form sshkey.Form, out string) (*workstation.Batch, error) {
	place, err := a.place()
	if err != nil {
		return nil, err
	}
	pair, err := keys.FindPublic(a.station, name)
	if err != nil {
		return nil, err
	}
	var old, new secret.Text
	if form != sshkey.RFC4716 && !pair.Alone {
		if old, new, err = relockPassphrases(a, o, pair); err != nil {
			return nil, err
		}
	}
	batch := a.begin("Write a key in another form.")
	return batch, keys.Save(place, batch, pair, form, out, old, new)
}
