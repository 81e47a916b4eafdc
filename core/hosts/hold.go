package hosts

import (
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// A Hold says how ssh finds the holder for a host.
type Hold struct {
	Program string // ours, in full; empty leaves it to people to start the holder
	Unlock  string // the private file of a key whose passphrase the desktop keeps; empty for none
}

// SettleHold makes ssh ask the holder for a host's keys, hand over what it unlocks itself,
// and start the holder where none is running. No environment variable is needed for it
// ("IdentityAgent", "AddKeysToAgent" and "Match exec" in ssh_config(5)).
func SettleHold(batch *workstation.Batch, station *workstation.Station, hostName string, hold Hold) error {
	err := Settle(batch, station, hostName,
		sshconfig.Setting{Keyword: "IdentityAgent", Args: []string{station.HolderSocket()}},
		sshconfig.Setting{Keyword: "AddKeysToAgent", Args: []string{"yes"}},
		sshconfig.Setting{Keyword: "ForwardAgent", Args: []string{"no"}}) // what the holder has is lent to nobody
	if err != nil {
		return err
	}
	err = EditOurs(batch, station, fmt.Sprintf("Let ssh start the holder for %s.", hostName),
		func(old []byte) ([]byte, error) {
			return sshconfig.SetMatchExec(old, hostName, hold.command())
		})
	return err
}

// DropHold takes out what [SettleHold] settled, where another agent is asked instead.
func DropHold(batch *workstation.Batch, station *workstation.Station, hostName string) error {
	text, err := regular.Read(OurFile(station), regular.Settings)
	if err != nil || !slices.Contains(Settled(text), hostName) {
		return nil // nothing of ours is there
	}
	err = EditOurs(batch, station, fmt.Sprintf("Leave %s to the agent that your settings name.", hostName),
		func(old []byte) ([]byte, error) {
			return withoutHold(old, hostName)
		})
	return err
}

// command is the line that ssh runs before it connects; empty where none can be written so
// that every shell reads it alike. Its words are ours, never those of whoever runs ssh.
func (h Hold) command() string {
	if h.Program == "" || runtime.GOOS == "windows" {
		return ""
	}
	words := []string{h.Program, "holder", "start", "--quiet"}
	if h.Unlock != "" {
		words = append(words, "--unlock", h.Unlock)
	}
	for i, word := range words {
		if strings.ContainsAny(word, "'\"\\\r\n") {
			return ""
		}
		if i == 0 || strings.ContainsAny(word, " $%&()*;<>?[]^`{|}~#!") {
			words[i] = "'" + strings.ReplaceAll(word, "%", "%%") + "'"
		}
	}
	return strings.Join(words, " ") + " 2>/dev/null"
}

// Settled lists the host names that our file has settings for.
func Settled(text []byte) []string {
	var names []string
	for _, block := range sshconfig.Blocks(text) {
		if len(block) == 1 && !strings.ContainsAny(block[0], "*?!") {
			names = append(names, block[0])
		}
	}
	return names
}

// Ours tells whether a setting of this origin is one of our own file.
func Ours(station *workstation.Station, origin sshconfig.Origin) bool {
	return origin.File == filepath.FromSlash(OurFile(station))
}

// WithoutKey takes the key out of our settings for a host, and what held it.
func WithoutKey(text []byte, hostName string) ([]byte, error) {
	text, err := sshconfig.SetInBlock(text, []string{hostName},
		[]sshconfig.Setting{{Keyword: "IdentityFile"}, {Keyword: "IdentitiesOnly"}})
	if err != nil {
		return nil, err
	}
	return withoutHold(text, hostName)
}

// withoutHold takes out how ssh finds the holder for a host.
func withoutHold(text []byte, hostName string) ([]byte, error) {
	text, err := sshconfig.SetInBlock(text, []string{hostName},
		[]sshconfig.Setting{{Keyword: "IdentityAgent"}, {Keyword: "AddKeysToAgent"}, {Keyword: "ForwardAgent"}})
	if err != nil {
		return nil, err
	}
	return sshconfig.SetMatchExec(text, hostName, "")
}
