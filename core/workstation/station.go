package workstation

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/person"
)

// A Station is one person's account on one computer.
type Station struct {
	person.Person

	Computer string           // this computer's name
	Folder   string           // the current folder, where git looks for a repository
	Gone     bool             // it was deleted, and Folder is where it was
	Now      func() time.Time // the clock
	// is closed when whoever runs this wants it to stop: nobody waits any longer then; nil for never
	Stop <-chan struct{}

	// Fault is called at each point where a run may be cut short and something is half done:
	// before and after whatever a step does. Tests end runs there. It may be nil.
	Fault func(words string)
}

func (s *Station) fault(words string) {
	if s.Fault != nil {
		s.Fault(words)
	}
}

// Here describes the workstation that this process runs on, as environ tells it.
func Here(environ []string) (*Station, error) {
	who, err := user.Current()
	unlisted := err != nil
	if unlisted {
		who = &user.User{}
	}
	s := &Station{Person: person.Of(environ, who.HomeDir), Now: time.Now}
	if s.Home == "" {
		return nil, errors.New("where your files are: HOME is not set, and the password database says nothing about you")
	}
	s.User, s.Unlisted = who.Username, unlisted
	if unlisted {
		s.User = cmp.Or(s.Getenv("USER"), s.Getenv("LOGNAME"), strconv.Itoa(s.UID))
	}
	if _, name, found := strings.Cut(s.User, `\`); found { // Windows puts the domain first
		s.User = name
	}
	if name, err := os.Hostname(); err == nil {
		s.Computer = name
	}
	if s.Folder, err = os.Getwd(); err != nil {
		if s.Gone, s.Folder = true, s.Getenv("PWD"); !filepath.IsAbs(s.Folder) {
			return nil, fmt.Errorf("the current folder: %w", err)
		}
	}
	return s, nil
}

// ErrGone is returned where something is to be put into the current folder, and that was deleted.
var ErrGone = fault.New("current-folder-missing", fault.Failed, "the current folder was deleted")

// Dir is the folder in which other programs are started: the current one, or the home where that was
// deleted.
func (s *Station) Dir() string {
	if s.Gone {
		return s.Home
	}
	return s.Folder
}

// InFolder is a path that a person names for something to be put there: in the current folder unless it
// says otherwise. The error is [ErrGone].
func (s *Station) InFolder(path string) (string, error) {
	switch {
	case filepath.IsAbs(path):
		return path, nil
	case s.Gone:
		return "", ErrGone
	}
	return filepath.Join(s.Folder, path), nil
}

// SSHDir is the folder where we put keys and per-host settings.
func (s *Station) SSHDir() string { return filepath.Join(s.Home, ".ssh") }

// KeyPath is the path of the private file that a person names: a name alone lies in the
// ssh folder, anything else is a path.
func (s *Station) KeyPath(text string) string {
	switch {
	case strings.HasPrefix(text, "~/"):
		return filepath.Join(s.Home, text[2:])
	case !strings.ContainsRune(filepath.ToSlash(text), '/'):
		return filepath.Join(s.SSHDir(), text)
	case !filepath.IsAbs(text):
		return filepath.Join(s.Folder, text)
	}
	return filepath.Clean(text)
}

// Tilde shortens a path below the home folder for showing it to the person.
func (s *Station) Tilde(path string) string {
	if rest, found := strings.CutPrefix(path, filepath.Clean(s.Home)+string(filepath.Separator)); found {
		return "~" + string(filepath.Separator) + rest
	}
	return path
}

// SSHPath writes a path for the ssh client's configuration: with "~" where the client
// takes that for the same folder, else in full.
func (s *Station) SSHPath(path string) string {
	if s.SameHome() {
		return filepath.ToSlash(s.Tilde(path))
	}
	return filepath.ToSlash(path)
}
