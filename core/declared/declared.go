// Package declared reads the state that an administrator declares for a machine: which hosts, which of their keys,
// which policy hold there for everybody. It changes nothing; core/apply does.
//
// There are no conditions, variables and includes in it: which machine gets which file is the matter of whatever
// brings it there.
package declared

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

// A State is what an administrator declares for a machine, read and understood as a whole.
type State struct {
	File     string // where it was read
	Text     []byte
	Fleet    string // what the machines are called that it is for
	Version  string
	Policy   []byte // the file of the policy; nil for none
	Hosts    []Host
	Trust    []Trust
	Distrust []Distrust
	Burned   []Burned
	InPlace  bool     // git starts ssh through us, for everybody
	Absent   []string // hosts that shall not be described here, by their names
}

// A Host is one that is described for everybody.
type Host struct {
	Description *describe.Description
	Text        []byte            // of the description
	Settings    map[string]string // of those that "unicrux host set" knows
	Authority   []byte            // of certificates (PEM) that git trusts there; nil for none
}

// Trust says which keys are trusted for some names. Names may have the wildcards of ssh (sshd(8), SSH_KNOWN_HOSTS FILE
// FORMAT), and are "[NAME]:PORT" for another port than 22.
type Trust struct {
	Names     []string
	Keys      []ssh.PublicKey
	Authority bool // they sign keys of hosts, and are none themselves
}

// Distrust names a host key that is never accepted again, for whatever name.
type Distrust struct {
	Key ssh.PublicKey
	Why string
}

// Burned names a person's key that leaked.
type Burned struct {
	Fingerprint string `toml:"fingerprint"` // SHA256:…
	Why         string `toml:"why"`
}

// Hash is the SHA-256 of the file, in hexadecimal.
func (s *State) Hash() string { return hashOf(s.Text) }

func hashOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Wrong is an error about a place of the state, such as "host[2].settings", with its line.
func (s *State) Wrong(place, message string) error {
	return &strict.Error{File: s.File, Line: strict.LineOf(s.Text, place), Place: place, Message: message}
}

// ReadFile reads a state and the files that it names, which are sought beside it. Every failure of the language is a
// *[strict.Error].
func ReadFile(path string) (*State, error) {
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return nil, err
	}
	file, err := parse(text)
	s := &State{File: path, Text: text}
	if err == nil {
		err = s.fill(file)
	}
	if err != nil {
		return nil, at(path, text, err)
	}
	return s, nil
}

// at adds to an error of the language where it is.
func at(path string, text []byte, err error) error {
	var wrong *strict.Error
	if errors.As(err, &wrong) && wrong.File == "" {
		wrong.File = path
		if wrong.Line == 0 {
			wrong.Line = strict.LineOf(text, wrong.Place)
		}
	}
	return err
}

// fill reads what the words of a file mean, and the files beside it.
func (s *State) fill(file document) (err error) {
	s.Fleet, s.Version, s.Burned, s.InPlace, s.Absent = file.Fleet, file.Version, file.Burned, file.Git.InPlace,
		file.Absent.Hosts
	if s.Trust, s.Distrust, err = file.keys(); err != nil {
		return err
	}
	for i, words := range file.Hosts {
		host, err := s.host(fmt.Sprintf("host[%d]", i), words)
		if err != nil {
			return err
		}
		s.Hosts = append(s.Hosts, host)
	}
	if file.Policy != "" {
		if s.Policy, err = s.beside("policy", file.Policy); err != nil {
			return err
		}
	}
	return s.agree()
}

// beside reads a file that the state names.
func (s *State) beside(place, name string) ([]byte, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(filepath.Dir(s.File), name)
	}
	text, err := regular.Read(name, regular.Settings)
	if err != nil {
		return nil, wrong(place, "%s", err)
	}
	return text, nil
}

// host reads the description of a host, and what stands beside it.
func (s *State) host(place string, words hostWords) (h Host, err error) {
	if words.Description == "" {
		return h, wrong(place, "it has no description")
	}
	if h.Text, err = s.beside(place+".description", words.Description); err != nil {
		return h, err
	}
	if h.Description, err = describe.Parse(h.Text); err != nil {
		return h, at(filepath.Join(filepath.Dir(s.File), words.Description), h.Text, err)
	}
	if sum := fingerprint(h.Text); words.Fingerprint != "" && words.Fingerprint != sum {
		return h, wrong(place+".fingerprint", "%s is another file than the one that was reviewed: it is %s",
			words.Description, sum)
	}
	if h.Settings, err = settings(place+".settings", words.Settings); err != nil {
		return h, err
	}
	if name, set := h.Settings["authority"]; set {
		delete(h.Settings, "authority")
		h.Authority, err = s.beside(place+".settings.authority", name)
	}
	return h, err
}

// fingerprint is that of a description, as "unicrux host add" shows it.
func fingerprint(text []byte) string {
	sum := sha256.Sum256(text)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// agree refuses what contradicts itself.
func (s *State) agree() error {
	names := map[string]bool{}
	for i, h := range s.Hosts {
		place := fmt.Sprintf("host[%d]", i)
		for _, name := range []string{h.Description.Name, h.Description.HostName()} {
			if names[name] {
				return wrong(place, "the host %s is described twice", name)
			}
		}
		names[h.Description.Name], names[h.Description.HostName()] = true, true
		if slices.Contains(s.Absent, h.Description.Name) {
			return wrong(place, "the host %s is also among those that are to be absent", h.Description.Name)
		}
		if err := s.isTrusted(place, h.Description.StaticKeys()); err != nil {
			return err
		}
	}
	for i, t := range s.Trust {
		if err := s.isTrusted(fmt.Sprintf("trust[%d]", i), t.Keys); err != nil {
			return err
		}
	}
	return nil
}

// isTrusted refuses keys that the state distrusts elsewhere.
func (s *State) isTrusted(place string, keys []ssh.PublicKey) error {
	for _, key := range keys {
		for i, d := range s.Distrust {
			if string(d.Key.Marshal()) == string(key.Marshal()) {
				return wrong(place, "the key %s is also among those that are distrusted (distrust[%d])",
					ssh.FingerprintSHA256(key), i)
			}
		}
	}
	return nil
}

// A Kept is what is known of the state that was applied to this machine last.
type Kept struct {
	File, Fleet, Version string
	Hash                 string // of the file; empty where there is none
	Burned               []Burned
	Distrust             []Distrust
}

// ErrUnreadable is returned by [Read] where a state was applied and its copy cannot be understood, or where others than
// the administrator can write it.
var ErrUnreadable = fault.New("state-unreadable", fault.Failed, "the state of this machine cannot be used")

// File is where the state that was applied is kept.
func File(machine string) string { return filepath.Join(machine, "state.toml") }

// Read reads what was applied to this machine; nothing where nothing was. See [ErrUnreadable].
func Read(station *workstation.Station) (Kept, error) {
	path := File(station.Machine)
	text, err := regular.Read(path, regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return Kept{}, nil
	}
	if err == nil && !station.Trusted(path) {
		err = fmt.Errorf("%s: others than the administrator can write it", path)
	}
	if err != nil {
		return Kept{}, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	file, err := parse(text)
	kept := Kept{File: path, Fleet: file.Fleet, Version: file.Version, Hash: hashOf(text), Burned: file.Burned}
	if err == nil {
		_, kept.Distrust, err = file.keys()
	}
	if err != nil {
		return Kept{}, fmt.Errorf("%w: %w", ErrUnreadable, at(path, text, err))
	}
	return kept, nil
}

// ErrBurned is returned for a key that the administrator of the machine says is not to be used any more.
var ErrBurned = fault.New("key-burned", fault.Refused, "the administrator of this machine says that this key leaked")

// Key says whether a key may still be used; the error is [ErrBurned], with the reason.
func (k Kept) Key(key ssh.PublicKey) error {
	print := ssh.FingerprintSHA256(key)
	for _, b := range k.Burned {
		if b.Fingerprint == print {
			return fmt.Errorf("%s: %w: %s (%s)", print, ErrBurned, b.Why, k.File)
		}
	}
	return nil
}
