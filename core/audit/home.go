package audit

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// mostFiles bounds how many files of an ssh folder are looked at.
const mostFiles = 2000

// eyes are what a look at a home needs to know.
type eyes struct {
	station *workstation.Station // as it is for the owner of the home
	managed []*describe.Description
	policy  policy.Policy
	applied declared.Kept
}

// as is the workstation for the owner of a home. own is the environment of whoever runs this, where it is hers: it says
// where her files are.
func as(station *workstation.Station, home accounts.Home, own []string) *workstation.Station {
	environ := []string{"HOME=" + home.Path, "USER=" + home.Person, "LOGNAME=" + home.Person}
	for _, line := range own {
		if strings.HasPrefix(line, "XDG_") || strings.HasPrefix(line, "UNICRUX_") || strings.HasPrefix(line,
			"LOCALAPPDATA=") {
			environ = append(environ, line)
		}
	}
	p := person.Of(environ, home.Path)
	p.User, p.UID, p.Machine = home.Person, home.Who.UID, station.Machine
	return &workstation.Station{Person: p, Computer: station.Computer, Folder: home.Path, Now: station.Now}
}

// look looks at all of a home.
func (s *seen) look(e eyes) {
	if !s.enter(e) {
		return
	}
	if s.Person == "" {
		s.mark(policy.HomeOfNobody, "", s.Path, 0, "")
	}
	lines := s.sshSettings(e)
	s.keys(e, lines)
	s.gitSettings(e)
	s.tokens(e)
	s.hosts(e, lines)
}

// enter makes sure that the home is a folder of its owner's.
func (s *seen) enter(e eyes) bool {
	info, err := os.Lstat(s.Path)
	if err == nil && !info.IsDir() {
		err = errors.New("it is no folder")
	}
	if err == nil && !e.station.Owns(s.Path) {
		s.State, s.Why = Unread, "it belongs to another account"
		s.mark(policy.HomeOwner, "", s.Path, 0, "")
		return false
	}
	if err == nil {
		_, _, err = regular.Names(s.Path, 1)
	}
	if err != nil {
		s.State, s.Why = Unread, reason(err)
		s.mark(policy.HomeUnread, "", s.Path, 0, reason(err))
	}
	return err == nil
}

// reason is why a file could not be read, without the path that the system puts before it.
func reason(err error) string {
	var at *fs.PathError
	if errors.As(err, &at) {
		err = at.Err
	}
	return untrusted.Clean(err.Error())
}

// unread notes something that is there and cannot be read. What its owner cannot read either is no key or setting of
// hers: that is told, and leaves nothing unseen.
func (s *seen) unread(e eyes, path string, err error) {
	at := e.tilde(path)
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist):
	case errors.Is(err, regular.ErrTooLarge), errors.Is(err, sshconfig.ErrTooLarge):
		s.partly(policy.HomeTooLarge, at, reason(err))
	case errors.Is(err, sshconfig.ErrExposed):
		s.mark(policy.SettingsExposed, "", at, 0, "")
	case errors.Is(err, regular.ErrNot), errors.Is(err, syscall.ELOOP), errors.Is(err, fs.ErrPermission):
		s.mark(policy.FileOdd, "", at, 0, reason(err))
	default:
		s.partly(policy.HomeUnread, at, reason(err))
	}
}

// unlisted is [seen.unread] for a folder: what is in it was not seen.
func (s *seen) unlisted(e eyes, path string, err error) {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.partly(policy.HomeUnread, e.tilde(path), reason(err))
	}
}

// tilde writes a path below the home with "~", as it is told.
func (e eyes) tilde(path string) string { return untrusted.Clean(e.station.Tilde(path)) }

// keys looks at the private files of the ssh folder, and at those that settings name elsewhere.
func (s *seen) keys(e eyes, lines []sshconfig.SetLine) {
	var paths []string
	for _, name := range s.list(e, e.station.SSHDir()) {
		if path := filepath.Join(e.station.SSHDir(), name); strings.HasSuffix(name, "-cert.pub") {
			s.certificate(e, path)
		} else if !strings.HasSuffix(name, ".pub") && !slices.Contains(notKeys, name) {
			paths = append(paths, path)
		}
	}
	named := map[string]bool{}
	for _, line := range lines {
		if line.Keyword == "identityfile" {
			path := strings.ReplaceAll(strings.ReplaceAll(line.Args[0], "%d", s.Path), "%u", s.Person)
			named[strings.TrimSuffix(e.station.KeyPath(path), ".pub")] = true
		}
	}
	for path := range named {
		if filepath.Dir(path) != e.station.SSHDir() {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	known, err := hosts.KnownKeys(e.station)
	s.unlisted(e, e.station.State, err)
	for _, path := range paths {
		s.key(e, path, named[path], known)
	}
}

// notKeys are files of the ssh folder that ssh itself reads as something else ("FILES" in ssh(1) and sshd(8)).
var notKeys = []string{"config", "known_hosts", "known_hosts2", "authorized_keys", "authorized_keys2",
	"environment", "rc"}

// list names the files of a folder, as many as are looked at.
func (s *seen) list(e eyes, folder string) []string {
	names, more, err := regular.Names(folder, mostFiles)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	s.unlisted(e, folder, err)
	if more {
		s.partly(policy.HomeTooLarge, e.tilde(folder), fmt.Sprintf("more than %d files", mostFiles))
	}
	return names
}

// key looks at one private file.
func (s *seen) key(e eyes, path string, named bool, known map[string][]string) {
	at := e.tilde(path)
	h, err := sshkey.ReadHead(path)
	switch {
	case errors.Is(err, sshkey.ErrHead):
		s.mark(policy.KeyUnreadable, at, at, 0, "")
		return
	case errors.Is(err, sshkey.ErrNotKey):
		return
	case err != nil:
		if info, stat := os.Stat(path); stat != nil || !info.IsDir() {
			s.unread(e, path, err)
		}
		return
	}
	k := Key{Path: at, Kind: h.Kind, Locked: h.Locked, Device: h.Device, Made: h.Modified, public: h.Public}
	if k.public == nil {
		k.public = sshkey.LoadPublicLine(path + ".pub")
	}
	if k.public != nil {
		k.Fingerprint, k.Line = sshkey.Fingerprint(k.public), sshkey.Line(k.public, "")
		k.Kind, k.Bits, k.KnownAt = sshkey.Kind(k.public), sshkey.Bits(k.public), known[k.Fingerprint]
	}
	k.Named = named || sshconfig.IsDefaultKey(sshconfig.Person{Home: s.Path}, path)
	s.Keys = append(s.Keys, k)
	for _, burned := range e.applied.Burned {
		if burned.Fingerprint == k.Fingerprint {
			s.mark(policy.KeyBurned, k.thing(), at, 0, burned.Why)
		}
	}
	if h.Mode.Perm()&0o077 != 0 {
		s.mark(policy.KeyExposed, k.thing(), at, 0, "mode "+h.Mode.Perm().String())
	}
	if h.Public != nil && sshkey.Belies(path, h.Public) {
		s.mark(policy.KeyMismatched, k.thing(), at+".pub", 0, "")
	}
	if filepath.Dir(path) != e.station.SSHDir() {
		s.mark(policy.KeyOddPlace, k.thing(), at, 0, "")
	}
	if repository := s.trackedIn(path); repository != "" {
		s.mark(policy.KeyTracked, k.thing(), at, 0, e.tilde(repository))
	}
}

// trackedIn is the repository that holds a file; empty for none.
func (s *seen) trackedIn(path string) string {
	dir := filepath.Dir(path)
	root, known := s.repositories[dir]
	if !known {
		if root = repositoryOf(dir); s.repositories == nil {
			s.repositories = map[string]string{}
		}
		s.repositories[dir] = root
	}
	if root == "" {
		return ""
	}
	if tracks, _ := gitlink.Tracks(root, path); tracks {
		return root
	}
	return ""
}

// repositoryOf is the repository in which a folder is; empty for none.
func repositoryOf(dir string) string {
	for ; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		if _, err := os.Lstat(filepath.Join(dir, ".git")); err == nil {
			return dir
		}
	}
	return ""
}

// certificate looks at a certificate for signing in.
func (s *seen) certificate(e eyes, path string) {
	c, err := sshkey.LoadCertificate(path)
	if err != nil {
		return // it opens nothing
	}
	from, until := sshkey.CertificateTimes(c)
	s.Certificates = append(s.Certificates, Certificate{Path: e.tilde(path), From: from, Until: until,
		Fingerprint: fingerprint(c.Key), Authority: fingerprint(c.SignatureKey),
		Principals: cleaned(c.ValidPrincipals)})
}

func fingerprint(key ssh.PublicKey) string {
	if key == nil {
		return ""
	}
	return sshkey.Fingerprint(key)
}

func cleaned(list []string) []string {
	var all []string
	for _, text := range list {
		all = append(all, untrusted.Clean(text))
	}
	return all
}

// tokens reads what the chest tells without being opened.
func (s *seen) tokens(e eyes) {
	c := chest.Of(e.station)
	entries, err := c.List()
	if err != nil && !errors.Is(err, chest.ErrDamaged) {
		s.unlisted(e, c.Folder(), err)
		return
	}
	for _, entry := range entries {
		s.Tokens = append(s.Tokens, Token{Name: untrusted.Clean(entry.Name), At: untrusted.Clean(entry.At),
			Host: untrusted.Clean(entry.Host), User: untrusted.Clean(entry.User),
			Account: untrusted.Clean(entry.Account),
			ID:      untrusted.Clean(entry.ID), Place: string(entry.Kind), Purposes: cleaned(entry.Purposes),
			Scopes: cleaned(entry.Scopes), Made: entry.Made, Until: entry.Until, Proved: entry.Proved,
			Renews: entry.Signed})
	}
	slices.SortFunc(s.Tokens, func(a, b Token) int {
		return cmp.Or(cmp.Compare(a.At, b.At), cmp.Compare(a.Name,
			b.Name))
	})
}
