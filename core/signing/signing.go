// Package signing tells with which key git signs commits and tags, where that is an ssh key, and what would keep it
// from doing so.
//
// Standards: git-config(1), "gpg.format", "gpg.ssh.*", "user.signingKey", "commit.gpgSign".
package signing

import (
	"bytes"
	"errors"
	"io/fs"
	"os/exec"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// A Use is how git signs with an ssh key.
type Use struct {
	Value   string        // of user.signingKey; empty where a command names the key each time
	Path    string        // the file that it names; empty for a key that stands there itself
	Public  ssh.PublicKey // the key, as far as it can be told
	Where   gitlink.Entry // what names it
	Commits bool          // each commit is signed
	Command bool          // gpg.ssh.defaultKeyCommand names the key
	Program string        // that signs
}

// Of settles how git signs; ok is false where it does not sign with ssh keys, and for no configuration.
func Of(config *gitlink.Config, station *workstation.Station) (use Use, ok bool) {
	if config == nil {
		return Use{}, false
	}
	if format, found := config.Last("gpg.format"); !found || !strings.EqualFold(format.Value, "ssh") {
		return Use{}, false
	}
	use.Program = "ssh-keygen"
	if set, found := config.Last("gpg.ssh.program"); found && set.Value != "" {
		use.Program = set.Value
	}
	commits, _ := config.Last("commit.gpgsign")
	use.Commits = gitlink.IsTrue(commits.Value)
	if set, found := config.Last("gpg.ssh.defaultkeycommand"); found {
		use.Command, use.Where = true, set
	}
	set, found := config.Last("user.signingkey")
	if !found || set.Value == "" {
		return use, true
	}
	use.Value, use.Where = set.Value, set
	if literal, is := literalKey(set.Value); is {
		use.Public, _, _ = sshkey.ParseLine([]byte(literal))
		return use, true
	}
	use.Path = gitlink.Pathname(station, set.Value)
	use.Public = publicAt(use.Path)
	return use, true
}

// literalKey is a key that stands in the settings itself ("user.signingKey" in git-config(1)).
func literalKey(value string) (line string, is bool) {
	if line, is = strings.CutPrefix(value, "key::"); is {
		return line, true
	}
	return value, strings.HasPrefix(value, "ssh-")
}

// publicAt is the key of a file, which is a private or a public one.
func publicAt(path string) ssh.PublicKey {
	if pair, err := sshkey.Load(path); err == nil {
		return pair.Public
	}
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return nil
	}
	key, _, err := sshkey.ParseLine(text)
	if err != nil {
		return nil
	}
	return key
}

// Leads tells whether git signs with a pair.
func (u Use) Leads(pair *sshkey.Pair) bool {
	if u.Path != "" && (u.Path == pair.Path || u.Path == pair.Path+".pub") {
		return true
	}
	return u.Public != nil && pair.Public != nil && bytes.Equal(sshkey.Plain(u.Public).Marshal(), pair.Public.Marshal())
}

// Reasons for which git would refuse to sign, as the checks of this package return them, for errors.Is.
var (
	ErrNoKey     = errors.New("no key is named (user.signingKey)")
	ErrNoFile    = errors.New("the key file is not there")
	ErrNoPrivate = errors.New("only the public key is here, and no agent holds the key")
	ErrUnread    = errors.New("the key cannot be read")
	ErrProgram   = errors.New("the program that signs is not there")
)

// Refuses tells why git would refuse to sign; nil where nothing speaks against it. Nothing is signed, and nobody is
// asked for a passphrase.
func (u Use) Refuses(station *workstation.Station) error {
	if _, err := exec.LookPath(u.Program); err != nil {
		return ErrProgram
	}
	if u.Value == "" {
		if u.Command {
			return nil
		}
		return ErrNoKey
	}
	if u.Path != "" {
		_, err := sshkey.Load(u.Path)
		switch {
		case err == nil:
			return nil
		case errors.Is(err, fs.ErrNotExist):
			return ErrNoFile
		}
		if private, isPublic := strings.CutSuffix(u.Path, ".pub"); isPublic {
			if _, err := sshkey.Load(private); err == nil {
				return nil
			}
		}
	}
	if u.Public == nil {
		return ErrUnread
	}
	if !held(station, u.Public) {
		return ErrNoPrivate
	}
	return nil
}

// held tells whether the agent of the environment holds a key.
func held(station *workstation.Station, key ssh.PublicKey) bool {
	socket := station.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return false
	}
	conn, err := agent.Open(socket)
	if err != nil {
		return false
	}
	defer conn.Close() // nothing was written
	for _, k := range conn.Keys {
		if bytes.Equal(sshkey.Plain(k.Public).Marshal(), sshkey.Plain(key).Marshal()) {
			return true
		}
	}
	return false
}
