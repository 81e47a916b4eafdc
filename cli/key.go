package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render"
)

func keyCommand(a *app) *cobra.Command {
	command := &cobra.Command{
		Use:   "key",
		Short: "Key pairs: new, list, show, find, passphrase, save, load, unload, register, withdraw, compare, renew, retire",
	}
	command.AddCommand(keyNew(a), keyList(a), keyShow(a), keyFind(a), keyRegister(a), keyWithdraw(a), keyCompare(a),
		keyLock(a), keySave(a), keyLoad(a), keyUnload(a), keyRenew(a), keyRetire(a))
	return command
}

type keyNewOptions struct {
	size                         int
	kind, note, host, passphrase string
	none                         bool
}

func keyNew(a *app) *cobra.Command {
	var o keyNewOptions
	command := &cobra.Command{
		Use:   "new [NAME]",
		Short: "Make a key pair in ~/.ssh",
		Long: `Makes a key pair in ~/.ssh, of type ed25519 unless a host requires an older one. Only you can read the private key,
from its first instant, and nothing is ever overwritten.

With --host, ssh config for that host uses the new key, and the key is named after the host
unless you give a name.`,
		RunE: func(_ *cobra.Command, args []string) error { return newKey(a, o, args) },
	}
	flags := command.Flags()
	o.kind = sshkey.ED25519
	flags.Var(oneOf(&o.kind, sshkey.Kinds()...), "type", "the key's type")
	flags.IntVar(
		&o.size,
		"size",
		0,
		"in `BITS`: 256, 384 or 521 for ecdsa; 3072 to 8192 for rsa (default 256 and 4096)",
	)
	flags.Var(named(&o.note, "TEXT"), "comment", "added to the public key's comment")
	flags.Var(named(&o.host, "HOST"), "host", "make settings for this host use the key")
	flags.Var(named(&o.passphrase, "FILE"), "passphrase-from", "read the passphrase from FILE, or - for standard input")
	flags.BoolVar(&o.none, "no-passphrase", false, "leave the key unlocked: whoever copies the file can use it")
	return command
}

func newKey(a *app, o keyNewOptions, args []string) error {
	if o.none && o.passphrase != "" {
		return usage("--passphrase-from and --no-passphrase contradict each other")
	}
	place, err := a.place()
	if err != nil {
		return err
	}
	n := keys.NewKey{Name: strings.Join(args, ""), Note: o.note, Kind: o.kind, Bits: o.size}
	if o.host != "" {
		if n.Host, err = place.Registry.Find(o.host); err != nil {
			return err
		}
	}
	if err := n.Check(a.station); err != nil { // before anybody is asked for anything
		return err
	}
	if o.none {
		if err := keys.MayBeUnlocked(a.station); err != nil {
			return err
		}
	}
	if !a.dry {
		if n.Passphrase, err = a.newPassphrase(o.passphrase, o.none); err != nil {
			return err
		}
	}
	batch := a.begin("Make a key.", o.host)
	var pair *sshkey.Pair
	err = a.meter().while("Making the key.", func() (err error) {
		pair, err = keys.Make(a.ctx, place, batch, n)
		return err
	})
	if err != nil {
		return err
	}
	text := render.Key(a.style(), viewOf(a, pair))
	if n.Host != nil {
		text += "\n" + a.style().Sentences(fmt.Sprintf("Settings for %s point to it now. Next, tell the host:",
			n.Host.Name)) +
			render.CommandLine(a.style(), "unicrux", "key", "register", pair.Name(), n.Host.Name)
	}
	return a.showChange(batch, text, render.KeyDocument(viewOf(a, pair), number(batch)))
}

// keyAt finds what most commands about a key need: where we are, and the key.
func keyAt(a *app, name string) (place site.Site, pair *sshkey.Pair, err error) {
	if place, err = a.place(); err != nil {
		return place, nil, err
	}
	pair, err = keys.Find(a.station, name)
	return place, pair, err
}

// keyAtHost is keyAt with a host that is to be told something about the public half.
func keyAtHost(a *app, name, hostName string) (place site.Site, pair *sshkey.Pair,
	host *describe.Description, err error) {
	if place, pair, err = keyAt(a, name); err != nil {
		return place, nil, nil, err
	}
	if host, err = place.Registry.Find(hostName); err != nil {
		return place, nil, nil, err
	}
	if pair.Public == nil {
		err = &problem{message: "the public key of " + pair.Name() + " is not here", exit: exitCrux}
	}
	return place, pair, host, err
}

func viewOf(a *app, pair *sshkey.Pair) render.KeyView {
	return render.KeyView{Pair: pair, Path: a.station.Tilde(pair.Path), Now: a.station.Now()}
}

// withUses adds to the view of a pair what is known about its use.
func withUses(a *app, view render.KeyView, keys []look.Key) render.KeyView {
	view.Looked = true
	for _, key := range keys {
		if key.Pair.Path == view.Pair.Path {
			return withUse(a, view, key)
		}
	}
	return view
}

// withUse says in a view what becomes of its key.
func withUse(a *app, view render.KeyView, key look.Key) render.KeyView {
	view.Looked = true
	for _, mention := range key.Mentions {
		view.Settings = append(view.Settings,
			strings.TrimSpace(mention.Block+" ("+a.station.Tilde(mention.Origin.String())+")"))
	}
	view.KnownAt, view.Held = key.KnownAt, key.InAgent
	return view
}

// lookAround is what is here, for whoever wants to know the use of keys.
func lookAround(a *app) (*look.View, error) {
	place, err := a.place()
	if err != nil {
		return nil, err
	}
	return look.Here(a.ctx, a.station, place.Registry)
}

func keyList(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the key pairs in ~/.ssh",
		RunE: func(*cobra.Command, []string) error {
			around, err := lookAround(a)
			if err != nil {
				return err
			}
			if around.Folder != nil {
				return around.Folder
			}
			var views []render.KeyView
			var unreadable []string
			for _, finding := range around.Unread {
				unreadable = append(unreadable, a.station.Tilde(finding.Path)+": "+finding.Err.Error())
			}
			for _, key := range around.Keys {
				if filepath.Dir(key.Pair.Path) == a.station.SSHDir() {
					views = append(views, withUse(a, viewOf(a, key.Pair), key))
				}
			}
			text := render.Keys(a.style(), views, unreadable)
			if len(views)+len(unreadable) == 0 {
				text = a.style().Sentences("There is no key in "+a.station.Tilde(a.station.SSHDir())+
					" yet. Make one:") +
					render.CommandLine(a.style(), "unicrux", "key", "new")
			}
			return a.show(text, render.KeysDocument(views, unreadable))
		},
	}
}

func keyShow(a *app) *cobra.Command {
	var line bool
	command := &cobra.Command{
		Use: "show KEY", Short: "Show all about one key pair",
		RunE: func(_ *cobra.Command, args []string) error {
			pair, err := keys.FindPublic(a.station, args[0])
			if err != nil {
				return err
			}
			if line && pair.Public == nil {
				return &problem{message: "the public key of " + pair.Name() +
					" can only be read with its passphrase, and there is no public key file beside it", exit: exitCrux}
			}
			if line && !a.json {
				return a.print(sshkey.Line(pair.Public, pair.Comment) + "\n")
			}
			around, err := lookAround(a)
			if err != nil {
				return err
			}
			view := withUses(a, viewOf(a, pair), around.Keys)
			return a.show(render.Key(a.style(), view), render.KeyDocument(view, 0))
		},
	}
	command.Flags().BoolVar(&line, "line", false, "print the public line and nothing else")
	return command
}
