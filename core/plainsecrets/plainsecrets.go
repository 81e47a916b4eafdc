// Package plainsecrets finds secrets for code hosts that lie about in plain text: in git's credential
// file (git-credential-store(1)), in netrc files, in the URLs of remotes, in headers that git's
// configuration adds, and, to be told about only, in environment files and shell histories.
//
// [Find] is what callers want. Nothing is changed here.
package plainsecrets

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/workstation"
)

// A Sort is a kind of place where secrets lie.
type Sort string

// The sorts.
const (
	CredentialFile Sort = "credential file"
	Netrc          Sort = "netrc file"
	RemoteURL      Sort = "remote's URL"
	Header         Sort = "header"
	Environment    Sort = "environment file"
	History        Sort = "shell history"
)

// A Stray is a secret that lies about.
type Stray struct {
	Sort   Sort
	File   string // where it lies
	Line   int    // counted from 1; 0 where that is not known
	At     string // the host, with its port when one stands there; empty where it is not known
	User   string // may be empty
	Secret secret.Text
	Key    string // of git's configuration, for a URL or a header
	Value  string // what stands there, which holds the secret
}

// Movable tells whether it can be taken out of there. From files that other programs write it
// is only told.
func (s Stray) Movable() bool {
	return s.At != "" && !s.Secret.Empty() && s.Sort != Environment && s.Sort != History
}

// maxFile bounds what is read of one file.
const maxFile = 8 << 20

// Find looks in the usual places of a home and of the repository of the current folder, or in
// the files that are named alone.
func Find(ctx context.Context, station *workstation.Station, files []string) ([]Stray, error) {
	var list []Stray
	if len(files) > 0 {
		for _, file := range files {
			text, err := read(file)
			if err != nil {
				return nil, err
			}
			list = append(list, inFile(file, text)...)
		}
		return list, nil
	}
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil {
		return nil, err
	}
	return InPlaces(station, config), nil
}

// InPlaces looks in the usual places, of which git's configuration names some; a nil one names none. Files of the sorts
// in leave are not read: an environment file, a shell history.
func InPlaces(station *workstation.Station, config *gitlink.Config, leave ...Sort) []Stray {
	list := InNetrc(station)
	if config != nil {
		list = append(append(InStore(station, config), list...), inConfigOf(station, config)...)
	}
	for _, file := range toldFiles(station) {
		if slices.Contains(leave, sortOf(file)) {
			continue
		}
		if text, err := read(file); err == nil {
			list = append(list, told(file, text)...)
		}
	}
	return list
}

// inConfigOf are those in git's own files, by their full paths.
func inConfigOf(station *workstation.Station, config *gitlink.Config) []Stray {
	var list []Stray
	for _, s := range inConfig(config) {
		if !filepath.IsAbs(s.File) { // git names the repository's own from the current folder
			s.File = filepath.Join(station.Folder, s.File)
		}
		list = append(list, s)
	}
	return list
}

// InNetrc finds what the netrc file of the home holds, which git's HTTPS library reads by itself.
func InNetrc(station *workstation.Station) []Stray {
	var list []Stray
	for _, name := range []string{".netrc", "_netrc"} {
		file := filepath.Join(station.Home, name)
		if text, err := read(file); err == nil {
			list = append(list, inNetrc(file, text)...)
		}
	}
	return list
}

// NetrcFor finds what git's HTTPS library takes from the netrc file for a host, and for a user where the URL
// names one: the first that fits.
func NetrcFor(station *workstation.Station, host, user string) (Stray, bool) {
	for _, entry := range InNetrc(station) {
		if (entry.At == "" || entry.At == allow.LowerHost(host)) && (user == "" || user == entry.User) {
			return entry, true
		}
	}
	return Stray{}, false
}

// InStore finds what git's store helper keeps.
func InStore(station *workstation.Station, config *gitlink.Config) []Stray {
	var list []Stray
	for _, file := range credentialFiles(station, config) {
		if text, err := read(file); err == nil { // most are not there
			list = append(list, inCredentialFile(file, text)...)
		}
	}
	return list
}

func read(path string) ([]byte, error) { return regular.Read(path, maxFile) }

// credentialFiles are those that git's store helper reads: the usual two, and those that a
// helper names ("--file" in git-credential-store(1)).
func credentialFiles(station *workstation.Station, config *gitlink.Config) []string {
	xdg := station.Getenv("XDG_CONFIG_HOME")
	if xdg == "" {
		xdg = filepath.Join(station.Home, ".config")
	}
	files := []string{filepath.Join(station.Home, ".git-credentials"), filepath.Join(xdg, "git", "credentials")}
	for _, entry := range config.All("credential.helper") {
		words := strings.Fields(strings.ReplaceAll(entry.Value, "--file=", "--file "))
		for i, word := range words {
			if word == "--file" && i+1 < len(words) && words[0] == "store" {
				files = append(files, station.KeyPath(strings.Trim(words[i+1], `"'`)))
			}
		}
	}
	return files
}

// InText finds what the text of a file holds in which a stray of a sort was found.
func InText(sort Sort, path string, text []byte) []Stray {
	switch sort {
	case CredentialFile:
		return inCredentialFile(path, text)
	case Netrc:
		return inNetrc(path, text)
	}
	return told(path, text)
}

// inFile guesses from what stands in a file which of the known forms it has.
func inFile(path string, text []byte) []Stray {
	if list := inCredentialFile(path, text); len(list) > 0 &&
		strings.Count(string(text), "://") == len(bytes.Fields(text)) {
		return list
	}
	if list := inNetrc(path, text); len(list) > 0 {
		return list
	}
	return told(path, text)
}

// inCredentialFile reads a URL on each line.
func inCredentialFile(path string, text []byte) []Stray {
	var list []Stray
	for n, line := range lines(text) {
		at, err := url.Parse(plainPort(line))
		if err != nil || at.User == nil || at.Scheme != "https" {
			continue
		}
		if password, set := at.User.Password(); set && password != "" {
			list = append(list, Stray{Sort: CredentialFile, File: path, Line: n + 1, At: allow.LowerHost(at.Host),
				User: at.User.Username(), Secret: secret.New([]byte(password))})
		}
	}
	return list
}

// plainPort undoes how git's store helper writes the colon before a port: a colon is a letter like any
// other to it ("credential_write_item" and "is_rfc3986_reserved_or_unreserved" in git's sources).
func plainPort(line string) string {
	host := strings.LastIndexByte(line, '@') + 1
	name, path, found := strings.Cut(line[host:], "/")
	if at := strings.LastIndexByte(name, '%'); at >= 0 && len(name) > at+3 && strings.EqualFold(name[at:at+3], "%3a") {
		name = name[:at] + ":" + name[at+3:]
	}
	if found {
		name += "/" + path
	}
	return line[:host] + name
}

func lines(text []byte) []string {
	var list []string
	scanner := bufio.NewScanner(bytes.NewReader(text))
	scanner.Buffer(nil, maxFile)
	for scanner.Scan() {
		list = append(list, scanner.Text())
	}
	return list
}

// inNetrc reads machine, login and password (netrc(5) of the GNU inetutils). What belongs to a
// macro, or neither to a machine nor to all others, is passed over.
func inNetrc(path string, text []byte) []Stray {
	var list []Stray
	var now *Stray
	keep := func() {
		anybody := now != nil && now.At == "" && now.User == "anonymous" // as for servers of files: no secret
		if now != nil && !now.Secret.Empty() && !anybody {
			list = append(list, *now)
		}
		now = nil
	}
	macro := false
	for n, line := range lines(text) {
		if macro = macro && strings.TrimSpace(line) != ""; macro {
			continue
		}
		words := strings.Fields(line)
		for i := 0; i < len(words) && !strings.HasPrefix(words[i], "#"); i++ {
			value := ""
			if i+1 < len(words) {
				value = words[i+1]
			}
			switch words[i] {
			case "machine":
				keep()
				now = &Stray{Sort: Netrc, File: path, Line: n + 1, At: allow.LowerHost(value)}
				i++
			case "default": // for whatever host no machine is named before it
				keep()
				now = &Stray{Sort: Netrc, File: path, Line: n + 1}
			case "login":
				if now != nil {
					now.User = value
				}
				i++
			case "password":
				if now != nil {
					now.Secret = secret.New([]byte(strings.Trim(value, `"`)))
				}
				i++
			case "macdef":
				macro, i = true, len(words)
			}
		}
	}
	keep()
	return list
}

// inConfig finds secrets in the URLs of remotes and in headers for signing in.
func inConfig(config *gitlink.Config) []Stray {
	var list []Stray
	for _, entry := range config.Every() {
		key := strings.ToLower(entry.Key)
		switch {
		case strings.HasPrefix(key, "remote.") &&
			(strings.HasSuffix(key, ".url") || strings.HasSuffix(key, ".pushurl")):
			if s, found := inURL(entry.Value); found {
				s.File, s.Line, s.Key, s.Value = entry.Origin, entry.Line(), entry.Key, entry.Value
				list = append(list, s)
			}
		case strings.HasPrefix(key, "http.") && strings.HasSuffix(key, ".extraheader"):
			s := inHeader(entry.Value)
			if s.Secret.Empty() {
				continue
			}
			at, err := url.Parse(strings.TrimSuffix(strings.TrimPrefix(entry.Key, "http."),
				entry.Key[strings.LastIndexByte(entry.Key, '.'):]))
			if err == nil && at.Scheme == "https" {
				s.At = allow.LowerHost(at.Host)
			}
			s.File, s.Line, s.Key, s.Value = entry.Origin, entry.Line(), entry.Key, entry.Value
			list = append(list, s)
		}
	}
	return list
}

// inURL finds a password in a URL, or a token in the place of the login name.
func inURL(text string) (Stray, bool) {
	at, err := url.Parse(text)
	if _, hidden := address.HideSecret(text); err != nil || at.User == nil || !hidden {
		return Stray{}, false
	}
	s := Stray{Sort: RemoteURL, User: at.User.Username()}
	if at.Scheme == "https" { // over anything else nothing is kept, or answered
		s.At = allow.LowerHost(at.Host)
	}
	password, set := at.User.Password()
	if !set || password == "" {
		s.User, password = "", at.User.Username()
	}
	s.Secret = secret.New([]byte(password))
	return s, true
}

// inHeader reads what signs in by a header (RFC 7617, RFC 6750).
func inHeader(text string) Stray {
	name, value, _ := strings.Cut(text, ":")
	if !strings.EqualFold(strings.TrimSpace(name), "authorization") {
		return Stray{}
	}
	kind, word, _ := strings.Cut(strings.TrimSpace(value), " ")
	s := Stray{Sort: Header}
	switch strings.ToLower(kind) {
	case "basic":
		plain, err := base64.StdEncoding.DecodeString(strings.TrimSpace(word))
		user, password, found := bytes.Cut(plain, []byte(":"))
		if err == nil && found {
			s.User, s.Secret = string(user), secret.New(password)
		}
	case "bearer", "token":
		s.Secret = secret.New([]byte(strings.TrimSpace(word)))
	}
	return s
}

// toldFiles are those in which secrets are looked for and never touched.
func toldFiles(station *workstation.Station) []string {
	var files []string
	for _, name := range []string{".bash_history", ".zsh_history", ".history",
		".local/share/fish/fish_history", ".env"} {
		files = append(files, filepath.Join(station.Home, filepath.FromSlash(name)))
	}
	if station.Folder != station.Home {
		files = append(files, filepath.Join(station.Folder, ".env"))
	}
	return files
}

var (
	inAddress  = lazyregexp.Late(`https://([^\s:/@'"]*):([^\s@/'"]+)@([A-Za-z0-9.-]+(?::\d+)?)`)
	inVariable = lazyregexp.Late(`(?i)^\s*(?:export\s+)?([A-Z0-9_]*(?:` + secret.Names +
		`)[A-Z0-9_]*)\s*=\s*["']?([^\s"'#]{8,})`)
)

// sortOf is what a file is in which secrets are only told.
func sortOf(path string) Sort {
	if strings.HasSuffix(path, ".env") {
		return Environment
	}
	return History
}

// told finds addresses with a secret in them, and in environment files what is named like one.
func told(path string, text []byte) []Stray {
	sort := sortOf(path)
	var list []Stray
	for n, line := range lines(text) {
		for _, match := range inAddress().FindAllStringSubmatch(line, -1) {
			list = append(list, Stray{Sort: sort, File: path, Line: n + 1, At: allow.LowerHost(match[3]),
				User: match[1], Secret: secret.New([]byte(match[2]))})
		}
		if match := inVariable().FindStringSubmatch(line); match != nil && sort == Environment &&
			!strings.HasPrefix(match[2], "$") {
			list = append(list, Stray{Sort: sort, File: path, Line: n + 1, User: match[1],
				Secret: secret.New([]byte(match[2]))})
		}
	}
	return list
}
