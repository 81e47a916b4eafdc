package localcheck

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// strangeCharacters finds what belongs into no URL: what was copied with it, or characters of
// a secret that should have been escaped (RFC 3986, section 3.2.1).
func strangeCharacters(text string) *finding.Crux {
	what := ""
	switch i := strings.IndexAny(text, " \t\r\n\"'<>`“”‘’\u00a0\u200b\ufeff"); {
	case i >= 0:
		what = fmt.Sprintf("%q at character %d", []rune(text[i:])[0], i+1)
	case hasOddSecret(text):
		what = "a character in the secret before the @ that ends the name of the host"
	default:
		return nil
	}
	return finding.New(causes.URLCharacters, finding.Proved, finding.Saw(seen.Wrong, what, ""))
}

// transportOf is the transport of a text with strange characters.
func transportOf(text string) string {
	if strings.HasPrefix(strings.TrimLeft(text, " \"'<`“‘"), "http") {
		return "https"
	}
	return "ssh"
}

// hasOddSecret reports whether a secret in a URL holds a "/", "?" or "#", so that what comes behind it is no longer
// read as the host.
func hasOddSecret(text string) bool {
	scheme, rest, found := strings.Cut(text, "://")
	if !found || !strings.HasPrefix(scheme, "http") {
		return false
	}
	i := strings.IndexAny(rest, "/?#")
	if i < 0 || strings.Contains(rest[:i], "@") || !strings.Contains(rest[i:], "@") {
		return false
	}
	name, port, found := strings.Cut(rest[:i], ":")
	if !found || portNumber(port) == 0 || rest[i] != '/' { // no port, or one without a path behind it
		return found
	}
	behind, _, _ := strings.Cut(rest[strings.LastIndex(rest, "@")+1:], "/")
	return !strings.Contains(name, ".") && strings.Contains(behind, ".") // a user's name, and a host's
}

// isPage reports whether a web address cannot be a repository's: it goes on behind the two names that make a project.
// What a page's address looks like behind them differs from host to host, so nothing more is read of it.
func isPage(a address.Address, text string) bool {
	return strings.Count(strings.Trim(a.Path, "/"), "/") >= 2 || strings.ContainsAny(text, "?#")
}

// pageRepository takes the two names out of the path of a page.
func pageRepository(path string) string {
	path, _, _ = strings.Cut(path, "?")
	path, _, _ = strings.Cut(path, "#")
	parts := strings.Split(strings.Trim(path, "/"), "/")
	return strings.TrimSuffix(strings.Join(parts[:min(len(parts), 2)], "/"), ".git") + ".git"
}

// portNumber reads a port; 0 for text that is none.
func portNumber(text string) uint16 {
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return 0
	}
	return uint16(port)
}

// isFolder reports whether a URL without a host is a folder here, which git would use.
func (s Scene) isFolder(text string) bool {
	path, url := strings.CutPrefix(text, "file://")
	if slash := strings.IndexByte(path, '/'); url && slash > 0 { // git passes over a host there
		path = path[slash:]
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(s.Station.Folder, path)
	}
	_, err := os.Stat(path)
	return err == nil
}

// forbidden names the setting by which git does not use a transport ("protocol.allow" in
// git-config(1), GIT_ALLOW_PROTOCOL in git(1)).
func (s Scene) forbidden(transport string) *finding.Crux {
	if list := s.Station.Getenv("GIT_ALLOW_PROTOCOL"); list != "" && s.Hg == nil {
		if slices.Contains(strings.Split(list, ":"), transport) {
			return nil
		}
		return finding.New(causes.TransportForbidden, finding.Proved,
			finding.Saw(seen.Setting, "GIT_ALLOW_PROTOCOL="+untrusted.Clean(list), "environment"))
	}
	for _, key := range []string{"protocol." + transport + ".allow", "protocol.allow"} {
		if entry, found := s.Config.Last(key); found {
			if strings.EqualFold(entry.Value, "never") {
				return finding.New(causes.TransportForbidden, finding.Proved,
					finding.Saw(seen.Setting, key+" = "+untrusted.Clean(entry.Value), s.Station.Tilde(entry.Origin)))
			}
			return nil
		}
	}
	return nil
}

// unknownVersion names the setting by which git is to speak a version of its protocol that does not exist: it goes to
// no host then (protocol.version in git-config(1)).
func (s Scene) unknownVersion() *finding.Crux {
	set, found := s.Config.Last("protocol.version")
	if !found || s.Hg != nil || slices.Contains([]string{"0", "1", "2"}, set.Value) {
		return nil
	}
	return finding.New(causes.GitConfigBroken, finding.Proved,
		finding.Saw(seen.Setting, "protocol.version = "+untrusted.Clean(set.Value), s.Station.Tilde(set.Origin)),
		finding.Saw(seen.Why, "git knows 0, 1 and 2", ""))
}

// unprotected looks whether the host answers git's own protocol, which proves nobody's identity and
// hides nothing (git-daemon(1)).
func (l Located) unprotected(ctx context.Context) *finding.Crux {
	a := l.Address
	answer, err := wire.GoGit(ctx, a.Host, int(a.Port), a.Path, l.Service(), l.Request.For())
	scheme := finding.Saw(seen.Scheme, "git, which proves nobody's identity and hides nothing", "")
	said := finding.Saw(seen.HostSays, untrusted.Quote(untrusted.Clean(answer.Message)), "")
	host := finding.Saw(seen.Host, a.Host, "")
	unknown := err != nil && finding.Met(err, causes.Code{}) == causes.NameUnknown
	switch likely := l.LikelyName(nil); {
	case unknown && likely != "":
		return finding.New(causes.NameUnknown, finding.Proved, host, finding.Saw(seen.LooksLike, likely, ""))
	case unknown && l.Host == nil:
		return finding.New(causes.NameUnknown, finding.Proved, host)
	case err != nil:
		return finding.New(causes.URLTransportRefused, finding.Likely, scheme)
	case answer.Open:
		return nil
	case l.Service() == "git-receive-pack":
		return finding.New(causes.URLTransportRefused, finding.Proved, scheme, said)
	}
	if code := causes.Hear(untrusted.Clean(answer.Message), causes.Address, causes.Permission); !code.IsZero() {
		return finding.New(code, finding.Proved, scheme, said)
	}
	return finding.New(causes.URLTransportRefused, finding.Likely, scheme, said)
}

// mostSlips is how many letters of a name may be wrong before it is another one.
const mostSlips = 2

// LikelyName finds a host name that is known here and looks like the one that does not exist: of a described host, of
// another remote, or of a host whose key is stored in one of some files. It is empty where there is none.
func (l Located) LikelyName(knownHosts []string) string {
	var known []string
	for _, d := range l.Registry.Hosts {
		known = append(known, d.HostName())
	}
	for _, remote := range l.Config.Remotes() {
		url, _, _ := l.Config.RemoteURL(remote, false)
		if other, err := address.Parse(url.Value); err == nil {
			known = append(known, other.Host)
		}
	}
	known = append(known, knownhosts.Names(knownHosts)...)
	best, name := mostSlips+1, ""
	for _, host := range known {
		if n := suggest.Distance(strings.ToLower(l.Address.Host), strings.ToLower(host), best); n > 0 && n < best {
			best, name = n, host
		}
	}
	return name
}

// BetterURL is the clone URL that a crux suggests in place of the one that was given; empty when it suggests none.
// knownHosts are as for [Located.LikelyName].
func (l Located) BetterURL(crux *finding.Crux, knownHosts []string) string {
	a := l.Address
	switch crux.Code {
	case causes.URLCharacters:
		if clean := causes.CloneURL(l.Given); clean != "" && strangeCharacters(clean) == nil {
			return clean
		}
	case causes.URLSecret:
		plain := *l.Base
		plain.User = nil
		if l.WebUser != "" {
			plain.User = url.User(l.WebUser)
		}
		return plain.String()
	case causes.URLIsAPage, causes.URLTransportRefused:
		return l.repositoryURL(crux.Code)
	case causes.URLPortInShortForm:
		port, path, _ := strings.Cut(a.Path, "/")
		return address.Address{Scheme: "ssh", User: a.User, Host: a.Host, Port: portNumber(port),
			Path: "/" + path}.String()
	case causes.URLUserMissing:
		a.User = "git"
		if l.Host != nil {
			a.User = l.Host.SSH.User
		}
		return a.String()
	case causes.NameUnknown:
		if a.Host = l.LikelyName(knownHosts); a.Host != "" {
			return a.String()
		}
	}
	return ""
}

// repositoryURL is the clone URL, as the host's description has it, of the repository that a page's address names.
func (l Located) repositoryURL(code causes.Code) string {
	path := pageRepository(l.Address.Path)
	switch {
	case l.Host == nil:
		return ""
	case l.Host.HasSSH():
		return address.Address{Scheme: "ssh", User: l.Host.SSH.User, Host: l.Host.SSH.Host, Path: "/" + path}.String()
	case code == causes.URLIsAPage:
		return l.Host.CloneHTTPS(path + ".git")
	}
	return ""
}

// AskingFails says that the program that should ask for a secret is not there; one that is, is not started: it would
// ask.
func AskingFails(program, origin string) *finding.Crux {
	if program == "" {
		return nil
	}
	if _, err := exec.LookPath(program); err == nil {
		return nil
	}
	return finding.New(causes.AskingFailed, finding.Proved, finding.Saw(seen.AsksBy, untrusted.Clean(program), origin),
		finding.Saw(seen.Program, "is not there, or cannot be run", ""))
}
