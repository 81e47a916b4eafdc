// Package keys makes key pairs, finds them, changes their passphrases, and loads them into the agent that ssh asks.
//
// Every change goes through the [workstation.Batch] that the caller hands over, so each can be shown beforehand, is
// recorded, and can be taken back. The same holds for all rooms that package site serves.
package keys

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which [NewKey.Check], [Find] and [FindPublic] fail, for errors.Is.
var (
	ErrName = fault.New("key-name", fault.Misused,
		"a key name may contain letters, digits and . _ -, must not end in .pub, and must not be the name of a file that ssh itself uses",
	)
	ErrNoKey  = fault.New("key-no-key", fault.Refused, "no such key")
	ErrPublic = fault.New("key-public", fault.Misused, "that is the public key; name the key without .pub")
)

// maxName bounds a key's name, far below what file systems take.
const maxName = 100

// reserved are files in the ssh folder that are something else ("FILES" in ssh(1), ssh_config(5) and
// sshd(8)), and ours: a key of that name would be read as that, or be in its way.
var reserved = []string{"authorized_keys", "authorized_keys2", "authorized_principals", "known_hosts", "known_hosts2",
	"known_hosts.old", "config", "config.d", "environment", "rc", "agent", "unicrux.conf"}

// isKeyName tells whether text serves as the name of a private file.
func isKeyName(text string) bool {
	if slices.Contains(reserved, strings.ToLower(text)) {
		return false
	}
	const inside = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_"
	if text == "" || len(text) > maxName || strings.HasSuffix(text, ".pub") {
		return false
	}
	return strings.Trim(text, inside+".-") == "" && strings.IndexByte(inside, text[0]) >= 0 &&
		strings.IndexByte(inside, text[len(text)-1]) >= 0
}

// A NewKey says what key to make.
type NewKey struct {
	Name       string                // of the private file in the ssh folder; empty for one made of the host's name
	Host       *describe.Description // whose settings shall use the key; may be nil
	Note       string                // put at the end of the comment
	Kind       string                // empty for ed25519
	Bits       int                   // 0 for the kind's default
	Passphrase secret.Text           // empty for none
}

func (n NewKey) spec(station *workstation.Station) sshkey.Spec {
	return sshkey.Spec{Kind: n.Kind, Bits: n.Bits, Comment: n.CommentFor(station), Passphrase: n.Passphrase}
}

// FileName settles the file's name. Without a host it is one under which ssh looks for a key
// by itself.
func (n NewKey) FileName() string {
	switch {
	case n.Name != "":
		return n.Name
	case n.Host != nil:
		return Stem(n.Host) + "_" + n.kind()
	}
	return "id_" + n.kind()
}

// Stem is how a host's keys are called: for lab@forge lab_forge.
func Stem(host *describe.Description) string {
	return strings.NewReplacer("@", "_", ":", "_").Replace(host.Name)
}

func (n NewKey) kind() string {
	if n.Kind == "" {
		return sshkey.ED25519
	}
	return n.Kind
}

// CommentFor says who made the key, where and when.
func (n NewKey) CommentFor(station *workstation.Station) string {
	computer, _, _ := strings.Cut(station.Computer, ".")
	text := station.User + "@" + computer + " " + station.Now().Format("2006-01-02")
	return strings.TrimSpace(text + " " + n.Note)
}

// Check makes sure that a key can be made: a kind and size that there are and that the policy of the machine allows, a
// name that serves, and nothing in its place.
func (n NewKey) Check(station *workstation.Station) error {
	if err := n.spec(station).Check(); err != nil {
		return err
	}
	rules, err := policy.Read(station)
	if err == nil {
		err = rules.Key(n.kind(), n.spec(station).Size())
	}
	if err != nil {
		return err
	}
	if n.Host != nil && !n.Host.HasSSH() {
		return fmt.Errorf("%s: %w", n.Host.Name, hosts.ErrNoSSH)
	}
	if name := n.FileName(); !isKeyName(name) {
		return fmt.Errorf("%q: %w", name, ErrName)
	}
	path := station.KeyPath(n.FileName())
	for _, file := range []string{path, path + ".pub"} {
		if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("%s: %w", station.Tilde(file), workstation.ErrExists)
		}
	}
	return nil
}

// MayBeUnlocked says whether the policy of this machine allows a key without a passphrase; the error is a
// [policy.ErrForbidden] otherwise.
func MayBeUnlocked(station *workstation.Station) error {
	rules, err := policy.Read(station)
	if err != nil {
		return err
	}
	return rules.Unlocked()
}

// Make makes a key, and settings that point to it when a host is named.
func Make(ctx context.Context, p site.Site, batch *workstation.Batch, n NewKey) (*sshkey.Pair, error) {
	if err := n.Check(p.Station); err != nil {
		return nil, err
	}
	if n.Passphrase.Empty() && !batch.Dry { // where nothing is made, nobody was asked for one
		if err := MayBeUnlocked(p.Station); err != nil {
			return nil, err
		}
	}
	made, err := sshkey.Make(n.spec(p.Station))
	if err != nil {
		return nil, err
	}
	p.Trace().Debug("key generated", "kind", n.kind(), "bits", sshkey.Bits(made.Key), "milliseconds",
		float64(made.Took.Microseconds())/1000)
	path := p.Station.KeyPath(n.FileName())
	if err := batch.Create(path, "Make the private key.", 0o600, made.Private, true); err != nil {
		return nil, err
	}
	if err := batch.Create(path+".pub", "Write the public key beside it.", 0o644, made.Public, false); err != nil {
		return nil, err
	}
	pair := &sshkey.Pair{Path: path, Public: made.Key, Comment: n.CommentFor(p.Station), Locked: !n.Passphrase.Empty(),
		HasPublic: true, Mode: 0o600, Modified: p.Station.Now()}
	if n.Host == nil {
		return pair, nil
	}
	return pair, SetUse(ctx, p, batch, n.Host.HostName(), pair)
}

// FindPublic is Find, which takes a public half that lies alone as well, in any form.
func FindPublic(station *workstation.Station, text string) (*sshkey.Pair, error) {
	pair, err := Find(station, text)
	if !errors.Is(err, ErrPublic) && !errors.Is(err, sshkey.ErrPublicHalf) {
		return pair, err
	}
	path := station.KeyPath(text)
	if pair, err = sshkey.LoadPublic(path); err != nil {
		return nil, fmt.Errorf("%s: %w", station.Tilde(path), err)
	}
	return pair, nil
}

// Find reads the pair that a person names: by its file's name in the ssh folder, or by path.
func Find(station *workstation.Station, text string) (*sshkey.Pair, error) {
	if strings.HasSuffix(text, ".pub") {
		return nil, fmt.Errorf("%s: %w", text, ErrPublic)
	}
	path := station.KeyPath(text)
	pair, err := sshkey.Load(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &suggest.UnknownError{Name: station.Tilde(path), Near: nearest(path), Err: ErrNoKey}
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", station.Tilde(path), err)
	}
	return pair, nil
}

// nearest is the name of the key beside a path that was perhaps meant by it; empty for none.
func nearest(path string) string {
	found, err := sshkey.List(filepath.Dir(path))
	if err != nil {
		return ""
	}
	var names []string
	for _, f := range found {
		names = append(names, filepath.Base(f.Path))
	}
	return suggest.Nearest(filepath.Base(path), names)
}
