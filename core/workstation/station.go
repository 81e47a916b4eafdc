// Package workstation knows this computer and this person: where their files live,
// how a file is changed without ever being half written, and what was changed.
//
// [Here] describes the workstation; everything else takes that description as a
// value, so a test can be somebody else somewhere else. Whatever Unicrux writes goes
// through a [Batch], which records it.
package workstation

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
)

// A Station is one person's account on one computer.
type Station struct {
	Home    string // the home folder as git takes it: $HOME
	SSHHome string // the home folder as the ssh client takes it: the password database (ssh(1), FILES)
	Config  string // descriptions and settings
	Data    string // the chest
	State   string // the record of changes
	Cache   string // what can be found out again

	User     string // login name
	UID      int    // user number; -1 on Windows
	Computer string // this computer's name
	Folder   string // the current folder, where git looks for a repository

	Environ []string         // the environment that git and ssh are started with
	Now     func() time.Time // the clock

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
	s := &Station{Environ: environ, Now: time.Now}
	who, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("who is running this: %w", err)
	}
	s.User, s.SSHHome, s.UID = who.Username, who.HomeDir, os.Getuid()
	if _, name, found := strings.Cut(s.User, `\`); found { // Windows puts the domain first
		s.User = name
	}
	s.Home = s.Getenv("HOME")
	if s.Home == "" {
		s.Home = s.SSHHome
	}
	if name, err := os.Hostname(); err == nil {
		s.Computer = name
	}
	if s.Folder, err = os.Getwd(); err != nil {
		return nil, fmt.Errorf("the current folder: %w", err)
	}
	s.Config = s.folder("UNICRUX_CONFIG", "XDG_CONFIG_HOME", ".config")
	s.Data = s.folder("UNICRUX_DATA", "XDG_DATA_HOME", ".local/share")
	s.State = s.folder("UNICRUX_STATE", "XDG_STATE_HOME", ".local/state")
	s.Cache = s.folder("", "XDG_CACHE_HOME", ".cache")
	return s, nil
}

// folder picks one of our folders: our own variable, else the XDG base directory
// (relative values are to be ignored, XDG Base Directory Specification, section 2),
// else the platform's habit.
func (s *Station) folder(own, xdg, below string) string {
	if dir := s.Getenv(own); dir != "" {
		if abs, err := filepath.Abs(dir); err == nil {
			return abs
		}
	}
	if dir := s.Getenv(xdg); filepath.IsAbs(dir) {
		return filepath.Join(dir, "unicrux")
	}
	switch runtime.GOOS {
	case "darwin":
		return filepath.Join(s.Home, "Library", "Application Support", "unicrux", filepath.Base(below))
	case "windows":
		if dir := s.Getenv("LOCALAPPDATA"); dir != "" {
			return filepath.Join(dir, "unicrux", filepath.Base(below))
		}
	}
	return filepath.Join(s.Home, filepath.FromSlash(below), "unicrux")
}

// Getenv looks a variable up in the station's environment; the last one counts.
func (s *Station) Getenv(name string) string {
	for i := len(s.Environ) - 1; i >= 0; i-- {
		if key, value, found := strings.Cut(s.Environ[i], "="); found && key == name {
			return value
		}
	}
	return ""
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

// HolderSocket is where the holder listens, or will: where one listens already, a login that
// has a runtime folder by now does not part from it.
func (s *Station) HolderSocket() string {
	sockets := s.holderSockets()
	for _, socket := range sockets {
		if _, err := os.Stat(socket); err == nil {
			return socket
		}
	}
	return sockets[0]
}

// IsHolder tells whether a socket is one on which our holder may listen.
func (s *Station) IsHolder(socket string) bool { return slices.Contains(s.holderSockets(), socket) }

// SameHome reports whether git and the ssh client mean the same folder by "~". They
// differ under sudo, in containers and in throwaway homes.
func (s *Station) SameHome() bool {
	if filepath.Clean(s.Home) == filepath.Clean(s.SSHHome) {
		return true
	}
	a, errA := os.Stat(s.Home)
	b, errB := os.Stat(s.SSHHome)
	return errA == nil && errB == nil && os.SameFile(a, b)
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
