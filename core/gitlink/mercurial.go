package gitlink

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A Mercurial is what hg has settled in one folder, as hgrc(5) says that it reads it. hg is not
// started for it: that takes a tenth of a second and runs extensions.
type Mercurial struct {
	Root      string // of the repository; empty outside of any
	Untrusted string // the repository's own settings, where hg does not read them because they are another user's

	entries []Entry // by "section.name"; later ones win
	station *workstation.Station
}

// Forms of hgrc(5), section "Syntax".
var (
	hgSection  = lazyregexp.Late(`^\[([^\[]+)\]`)
	hgItem     = lazyregexp.Late(`^([^=\s][^=]*?)\s*=\s*(.*?)\s*$`)
	hgContinue = lazyregexp.Late(`^\s+(\S.*?)\s*$`)
	hgUnset    = lazyregexp.Late(`^%unset\s+(\S+)`)
	hgInclude  = lazyregexp.Late(`^%include\s+(\S.*?)\s*$`)
)

// mostIncluded bounds how deep files include each other; hg itself has no bound.
const mostIncluded = 16

// MercurialRoot is the Mercurial repository that the folder is in; empty where it is in none, or
// in one of git's that lies deeper.
func MercurialRoot(folder string) string {
	for dir := folder; ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(filepath.Join(dir, ".hg")); err == nil && info.IsDir() {
			return dir
		}
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil || dir == filepath.Dir(dir) {
			return ""
		}
	}
}

// ReadMercurial reads what hg has settled in the station's folder. Files that are not there or may
// not be read are passed over, as hg passes them over.
func ReadMercurial(station *workstation.Station) (*Mercurial, error) {
	m := &Mercurial{Root: MercurialRoot(station.Folder), station: station}
	if own := filepath.Join(m.Root, ".hg", "hgrc"); m.Root != "" && !station.Owns(own) {
		if _, err := os.Stat(own); err == nil {
			m.Untrusted = own
		}
	}
	for _, file := range m.files() {
		if err := m.read(file, 0); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// files lists where hg looks, in its order: what is read later wins ("Files" in hgrc(5)).
func (m *Mercurial) files() []string {
	list := []string{"/usr/etc/mercurial/hgrc", "/etc/mercurial/hgrc"}
	more, _ := filepath.Glob("/etc/mercurial/hgrc.d/*.rc")
	list = append(list, more...)
	settings := m.station.Getenv("XDG_CONFIG_HOME")
	if settings == "" {
		settings = filepath.Join(m.station.Home, ".config")
	}
	list = append(list, filepath.Join(m.station.Home, ".hgrc"), filepath.Join(settings, "hg", "hgrc"))
	for _, variable := range m.station.Environ {
		path, set := strings.CutPrefix(variable, "HGRCPATH=")
		if !set {
			continue
		}
		list = nil
		for _, place := range filepath.SplitList(path) {
			inside, _ := filepath.Glob(filepath.Join(place, "*.rc"))
			list = append(append(list, place), inside...)
		}
	}
	// A repository's own file may name programs: hg believes it only where it is the person's
	// ("trusted" in hgrc(5)).
	if m.Root != "" && m.Untrusted == "" {
		list = append(list, filepath.Join(m.Root, ".hg", "hgrc"))
	}
	return list
}

func (m *Mercurial) read(file string, depth int) error {
	text, err := regular.Read(file, regular.Settings)
	if err != nil || depth > mostIncluded {
		var path *fs.PathError
		if err == nil || errors.As(err, &path) {
			return nil
		}
		return err
	}
	return m.parse(string(text), file, depth)
}

func (m *Mercurial) parse(text, file string, depth int) error {
	section, open, number := "", false, 0 // open: the next line may continue the last entry
	for line := range strings.Lines(strings.TrimPrefix(text, "\ufeff")) {
		number++
		line = strings.TrimRight(line, "\r\n")
		comment := line != "" && (line[0] == '#' || line[0] == ';')
		if open && comment {
			continue
		}
		if more := hgContinue().FindStringSubmatch(line); open && more != nil {
			m.entries[len(m.entries)-1].Value += "\n" + more[1]
			continue
		}
		if open = false; comment || strings.TrimSpace(line) == "" {
			continue
		}
		if found := hgInclude().FindStringSubmatch(line); found != nil {
			if err := m.read(m.expand(found[1], filepath.Dir(file)), depth+1); err != nil {
				return err
			}
			continue
		}
		where := file + ":" + strconv.Itoa(number)
		var known bool
		if section, open, known = m.parseLine(line, section, where); !known {
			return &ConfigError{Program: "hg", Message: "config error at " + where + ": " + strings.TrimSpace(line)}
		}
	}
	return nil
}

// parseLine reads a head, an item or an unsetting. item tells that the next line may continue it;
// known is false for a line at which hg stops.
func (m *Mercurial) parseLine(line, section, where string) (now string, item, known bool) {
	if found := hgSection().FindStringSubmatch(line); found != nil {
		return found[1], false, true
	}
	if found := hgItem().FindStringSubmatch(line); found != nil {
		m.entries = append(m.entries, Entry{Key: section + "." + found[1], Value: found[2], Origin: where})
		return section, true, true
	}
	found := hgUnset().FindStringSubmatch(line)
	if found != nil {
		m.entries = slices.DeleteFunc(m.entries, func(e Entry) bool { return e.Key == section+"."+found[1] })
	}
	return section, false, found != nil
}

// expand replaces "~" and variables of the environment, as hg does in paths.
func (m *Mercurial) expand(path, folder string) string {
	path = os.Expand(path, m.station.Getenv)
	if rest, found := strings.CutPrefix(path, "~"); found && (rest == "" || os.IsPathSeparator(rest[0])) {
		path = m.station.Home + rest
	}
	if !filepath.IsAbs(path) && folder != "" {
		path = filepath.Join(folder, path)
	}
	return path
}

// Last returns the value that counts for a setting, such as "ui.ssh".
func (m *Mercurial) Last(key string) (Entry, bool) {
	for _, entry := range slices.Backward(m.entries) {
		if entry.Key == key {
			return entry, true
		}
	}
	return Entry{}, false
}

// hgPatience bounds how long hg may take to start.
const hgPatience = 5 * time.Second

// Complaints are the words of hg's about extensions that settings name and that it cannot load; nothing where it can,
// or where there are none.
func (m *Mercurial) Complaints(ctx context.Context) string {
	if len(m.section("extensions")) == 0 {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, hgPatience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "hg", "version", "--quiet")
	withoutTerminal(cmd)
	cmd.Dir, cmd.Env = m.station.Dir(), append(slices.Clone(m.station.Environ), "HGPLAIN=1")
	var said bytes.Buffer
	cmd.Stderr = &said
	_ = cmd.Run() // what it says counts, however it ends
	return strings.TrimSpace(said.String())
}

// section lists the settings of a section that count, in the order of their files.
func (m *Mercurial) section(name string) []Entry {
	var list []Entry
	for _, entry := range m.entries {
		key, found := strings.CutPrefix(entry.Key, name+".")
		if !found {
			continue
		}
		entry.Key = key
		if i := slices.IndexFunc(list, func(e Entry) bool { return e.Key == key }); i >= 0 {
			list[i] = entry
			continue
		}
		list = append(list, entry)
	}
	return list
}

// A HgPath is one of the addresses that a repository has by name ("paths" in hgrc(5)).
type HgPath struct {
	Name string
	URL  Entry
	Push Entry // only for pushing; its Value is empty where there is none
}

// Paths lists the addresses.
func (m *Mercurial) Paths() []HgPath {
	var list []HgPath
	at := func(name string) *HgPath {
		if i := slices.IndexFunc(list, func(p HgPath) bool { return p.Name == name }); i >= 0 {
			return &list[i]
		}
		list = append(list, HgPath{Name: name})
		return &list[len(list)-1]
	}
	for _, entry := range m.section("paths") {
		name, option, sub := strings.Cut(entry.Key, ":")
		switch {
		case !sub:
			at(name).URL = entry
		case option == "pushurl":
			at(name).Push = entry
		}
	}
	return list
}

// Path returns the address that hg would use for a name, or, without one, what a plain pull or a
// plain push would use ("default-push" comes before "default" then).
func (m *Mercurial) Path(name string, push bool) (url Entry, used string, found bool) {
	return m.path(name, push, 0)
}

func (m *Mercurial) path(name string, push bool, depth int) (url Entry, used string, found bool) {
	names := []string{name}
	if name == "" {
		if names = []string{"default"}; push {
			names = []string{"default-push", "default"}
		}
	}
	for _, name := range names {
		for _, path := range m.Paths() {
			if path.Name != name || (path.URL.Value == "" && path.Push.Value == "") {
				continue
			}
			if url = path.URL; push && path.Push.Value != "" {
				url = path.Push
			}
			// hg refuses a chain of them
			if other, refers := strings.CutPrefix(url.Value, "path://"); refers && depth == 0 {
				return m.path(other, push, 1)
			}
			return url, name, true
		}
	}
	return Entry{}, "", false
}

// SSH settles which ssh program hg starts: ui.ssh, by the shell.
func (m *Mercurial) SSH() SSHCommand {
	if entry, found := m.Last("ui.ssh"); found && entry.Value != "" {
		return parseSSH(entry.Value, "ui.ssh in "+entry.Origin, m.station.Getenv)
	}
	return SSHCommand{Program: "ssh", Clear: true}
}

// There is the command by which hg starts itself at the host (ui.remotecmd).
func (m *Mercurial) There() string {
	if entry, found := m.Last("ui.remotecmd"); found && entry.Value != "" {
		return entry.Value
	}
	return "hg"
}
