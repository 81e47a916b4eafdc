// Package person knows who runs this, and where things of ours live for them. It needs little,
// so that git can be answered before anything else of the program is ready.
package person

import (
	"os"
	"runtime"
	"slices"
)

// A Person is somebody on this computer.
type Person struct {
	User string // login name
	UID  int    // user number; -1 on Windows
	// Unlisted tells that the password database has no entry for the number, as in containers that
	// are run as anybody: the ssh client ends at once then, and git does not mind.
	Unlisted bool

	Home    string // the home folder as git takes it: $HOME
	SSHHome string // the home folder as the ssh client takes it: the password database (ssh(1), FILES)
	Config  string // descriptions and settings
	Data    string // the chest
	State   string // the record of changes
	Cache   string // what can be found out again
	Machine string // what the administrator keeps there for everybody

	Environ []string // the environment that git and ssh are started with
}

// Of is whoever runs this process, as far as environ tells. sshHome is what the password database
// says; where it is empty, it is taken for $HOME.
func Of(environ []string, sshHome string) Person {
	p := Person{Environ: environ, SSHHome: sshHome, UID: os.Getuid()}
	p.Home = p.Getenv("HOME")
	if p.Home == "" {
		p.Home = sshHome
	}
	if sshHome == "" {
		p.SSHHome = p.Home
	}
	p.Config = p.folder("UNICRUX_CONFIG", "XDG_CONFIG_HOME", ".config")
	p.Data = p.folder("UNICRUX_DATA", "XDG_DATA_HOME", ".local/share")
	p.State = p.folder("UNICRUX_STATE", "XDG_STATE_HOME", ".local/state")
	p.Cache = p.folder("", "XDG_CACHE_HOME", ".cache")
	p.Machine = p.machine()
	return p
}

// machine is the folder in which the administrator keeps what holds for everybody here.
func (p Person) machine() string {
	if dir := p.Getenv("UNICRUX_MACHINE"); isAbsolute(dir) {
		return dir
	}
	if dir := p.Getenv("ProgramData"); runtime.GOOS == "windows" && dir != "" {
		return join(dir, "unicrux")
	}
	return "/etc/unicrux"
}

// folder picks one of our folders: our own variable, else the XDG base directory
// (relative values are to be ignored, XDG Base Directory Specification, section 2),
// else the platform's habit.
func (p Person) folder(own, xdg, below string) string {
	if dir := p.Getenv(own); dir != "" {
		if abs, err := absolute(dir); err == nil {
			return abs
		}
	}
	if dir := p.Getenv(xdg); isAbsolute(dir) {
		return join(dir, "unicrux")
	}
	switch runtime.GOOS {
	case "darwin":
		return join(p.Home, "Library", "Application Support", "unicrux", last(below))
	case "windows":
		if dir := p.Getenv("LOCALAPPDATA"); dir != "" {
			return join(dir, "unicrux", last(below))
		}
	}
	return join(p.Home, below, "unicrux")
}

// Getenv looks a variable up in the person's environment; the last one counts.
func (p Person) Getenv(name string) string {
	text, _ := p.Lookup(name)
	return text
}

// Lookup is [Person.Getenv], and tells whether the variable is set: it may be, to nothing.
func (p Person) Lookup(name string) (text string, set bool) {
	for i := len(p.Environ) - 1; i >= 0; i-- {
		if entry := p.Environ[i]; len(entry) > len(name) && entry[:len(name)] == name && entry[len(name)] == '=' {
			return entry[len(name)+1:], true
		}
	}
	return "", false
}

// The names of the holder's two sockets. Each is served by a process of its own, so that what ssh
// may ask, and lend to another computer, has nothing to do with what git is answered from.
const (
	agentSocket = "agent" // an ssh agent: keys
	doorSocket  = "door"  // the chest's door, which is never an agent
)

// HolderSocket is where the holder listens as an ssh agent, or will.
func (p Person) HolderSocket() string { return p.socket(agentSocket) }

// DoorSocket is where the holder listens for questions about the chest, or will.
func (p Person) DoorSocket() string { return p.socket(doorSocket) }

// socket is where one of the two is: where one listens already, a login that has a runtime folder by
// now does not part from it.
func (p Person) socket(name string) string {
	sockets := p.holderSockets(name)
	for _, socket := range sockets {
		if _, err := os.Stat(socket); err == nil {
			return socket
		}
	}
	return sockets[0]
}

// IsHolder tells whether a socket is one on which our holder may listen as an ssh agent.
func (p Person) IsHolder(socket string) bool {
	return slices.Contains(p.holderSockets(agentSocket), socket)
}

// SameHome reports whether git and the ssh client mean the same folder by "~". They
// differ under sudo, in containers and in throwaway homes.
func (p Person) SameHome() bool {
	if clean(p.Home) == clean(p.SSHHome) {
		return true
	}
	a, errA := os.Stat(p.Home)
	b, errB := os.Stat(p.SSHHome)
	return errA == nil && errB == nil && os.SameFile(a, b)
}
