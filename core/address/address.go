// Package address reads the clone URLs that git accepts for a remote host: the scp-like
// [user@]host:path, ssh:// and https:// ("GIT URLS" in git-clone(1); RFC 3986), and the
// rewriting rules by which git replaces them (url.<base>.insteadOf in git-config(1)).
//
// [Parse] is what most callers want. It is strict where git is careless: git hands the
// host to ssh unread, while we say what is wrong with it.
package address

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
)

// MaxBytes bounds a clone URL. No host gives out longer ones; git has no limit of its own.
const MaxBytes = 4096

// An Address says where a repository is. It holds no secret, so it may be printed.
type Address struct {
	Scheme string // "ssh", "https", "http" or "git"
	User   string // login name; empty leaves the choice to ssh_config(5)
	// as written: ssh matches its Host patterns case by case; IPv6 without brackets (RFC 3986, section 3.2.2)
	Host  string
	Port  uint16 // TCP port; 0 when the text names none
	Path  string // as sent to the server; a leading "/" is significant
	Short bool   // written in the scp-like form, which has no place for a port
}

// The reasons that a [SyntaxError] of [Parse] can hold, to be tested with errors.Is.
var (
	ErrEmpty     = errors.New("nothing there")
	ErrTooLong   = fmt.Errorf("longer than %d bytes", MaxBytes)
	ErrLocal     = errors.New("a path on this computer, not a remote host")
	ErrNoColon   = errors.New(`a ":" belongs between the host and the path`)
	ErrNoHost    = errors.New("the host is missing")
	ErrNoPath    = errors.New("the path of the repository is missing")
	ErrPort      = fault.New("url-port", fault.Misused, "a port is a number from 1 to 65535")
	ErrOption    = errors.New(`a user, host or path may not begin with "-"`)
	ErrCharacter = errors.New("a character that no clone URL has")
	ErrUser      = errors.New("ssh rejects a user name with shell characters")
	ErrEscape    = errors.New(`"%" must be followed by two hexadecimal digits`)
	ErrBracket   = errors.New(`"[" without its "]"`)
	ErrTwice     = errors.New("two URLs in one")
	ErrScheme    = errors.New("git has no such way to reach a host; it knows ssh:// and https://")
	ErrPassword  = errors.New("ssh accepts no password in a URL")
	ErrHelper    = errors.New(`"::" behind a word makes git start a program of that name`)
	ErrCapitals  = errors.New("git knows the word before :// in small letters only")
)

// A SyntaxError keeps an offset, never the text: clone URLs hold tokens, and errors get printed.
type SyntaxError struct {
	Offset int   // first wrong byte, counted from 0
	Reason error // one of the Err values of this package
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("not a clone URL: %v (at character %d)", e.Reason, e.Offset+1)
}

// Unwrap returns the reason.
func (e *SyntaxError) Unwrap() error { return e.Reason }

// schemes maps what may stand before "://" to the transport (transport_helper and
// parse_connect_url in git's sources; "ssh+git" and "git+ssh" are old spellings of ssh).
var schemes = map[string]string{
	"ssh": "ssh", "git+ssh": "ssh", "ssh+git": "ssh", "https": "https", "http": "http", "git": "git",
}

// Parse reads text in any of the forms. Every failure is a *[SyntaxError].
func Parse(text string) (Address, error) {
	if text == "" {
		return Address{}, &SyntaxError{0, ErrEmpty}
	}
	if len(text) > MaxBytes {
		return Address{}, &SyntaxError{MaxBytes, ErrTooLong}
	}
	if i := strings.IndexFunc(text, unwanted); i >= 0 {
		return Address{}, &SyntaxError{i, ErrCharacter}
	}
	if scheme, _, found := strings.Cut(text, "://"); found {
		return parseURL(text, scheme)
	}
	return parseShort(text)
}

// unwanted reports control characters, white space and the marks that copying leaves
// around a URL. A path with a space in it is written with %20.
func unwanted(r rune) bool {
	return r <= ' ' || r == 0x7f || r == '"' || r == '<' || r == '>' || r == '\\' || r == '`' || r == 0xfffd
}

// parseURL reads scheme://[user[:password]@]host[:port]/path.
func parseURL(text, scheme string) (Address, error) {
	transport, known := schemes[strings.ToLower(scheme)]
	if scheme == "file" {
		return Address{}, &SyntaxError{0, ErrLocal}
	}
	if !known {
		return Address{}, &SyntaxError{0, ErrScheme}
	}
	if scheme != strings.ToLower(scheme) { // it looks for a program git-remote-SSH
		return Address{}, &SyntaxError{0, ErrCapitals}
	}
	start := len(scheme) + len("://")
	if next, _, twice := strings.Cut(text[start:], "://"); twice && schemes[strings.ToLower(next)] != "" {
		return Address{}, &SyntaxError{start, ErrTwice}
	}
	slash := strings.IndexByte(text[start:], '/')
	if slash < 0 {
		slash = len(text) - start
	}
	a := Address{Scheme: transport}
	pathAt := start + slash
	hostAt := start
	if at := strings.LastIndexByte(text[start:pathAt], '@'); at >= 0 {
		login, _, password := strings.Cut(text[start:start+at], ":") // which is no part of an Address
		if password && transport == "ssh" {
			return Address{}, &SyntaxError{start + len(login), ErrPassword}
		}
		user, err := unescape(login, start)
		if err != nil {
			return Address{}, err
		}
		a.User, hostAt = user, start+at+1
	}
	if err := a.setHostPort(text[hostAt:pathAt], hostAt); err != nil {
		return Address{}, err
	}
	path, err := unescape(text[pathAt:], pathAt)
	if err != nil {
		return Address{}, err
	}
	a.Path = path
	return a, a.validate(start, hostAt, pathAt)
}

// parseShort reads [user@]host:path, where the host may be an IPv6 literal in brackets.
// git takes [host:port]:path and [user@host:port]:path too, which is the only place for a port in this form.
func parseShort(text string) (Address, error) {
	if text == "." || text == ".." {
		return Address{}, &SyntaxError{0, ErrLocal}
	}
	colon := strings.IndexByte(text, ':')
	slash := strings.IndexByte(text, '/')
	if colon < 0 || (slash >= 0 && slash < colon) { // git-clone(1): then it is a local path
		reason := ErrLocal
		if at := strings.IndexByte(text, '@'); at > 0 && (slash < 0 || at < slash) {
			reason = ErrNoColon
		}
		return Address{}, &SyntaxError{max(slash, 0), reason}
	}
	if strings.HasPrefix(text[colon:], "::") && !strings.ContainsAny(text[:colon], "@[") {
		return Address{}, &SyntaxError{colon, ErrHelper}
	}
	if bracket := strings.Index(text, "@["); bracket > colon && !strings.Contains(text[:bracket], "/") {
		return Address{}, &SyntaxError{colon, ErrPassword}
	}
	a := Address{Scheme: "ssh", Short: true}
	hostAt := 0
	if at := strings.LastIndexByte(text[:colon], '@'); at >= 0 && text[0] != '[' {
		a.User, hostAt = text[:at], at+1
	}
	if strings.HasPrefix(text[hostAt:], "[") {
		end := strings.IndexByte(text[hostAt:], ']')
		if end < 0 {
			return Address{}, &SyntaxError{hostAt, ErrBracket}
		}
		colon = hostAt + end + 1
		if colon >= len(text) || text[colon] != ':' {
			return Address{}, &SyntaxError{colon, ErrNoColon}
		}
		if err := a.setInside(text[hostAt+1:hostAt+end], hostAt+1); err != nil {
			return Address{}, err
		}
	} else {
		a.Host = text[hostAt:colon]
	}
	if a.Path = text[colon+1:]; strings.HasPrefix(a.Path, ":") {
		return Address{}, &SyntaxError{colon + 1, ErrCharacter}
	}
	return a, a.validate(0, hostAt, colon+1)
}

// setInside reads what is between brackets: host:port, user@host:port, or an IPv6 literal with or without a
// user.
func (a *Address) setInside(inside string, offset int) error {
	if at := strings.LastIndexByte(inside, '@'); at >= 0 && a.User == "" {
		a.User, inside, offset = inside[:at], inside[at+1:], offset+at+1
	}
	if strings.Count(inside, ":") == 1 {
		if strings.HasSuffix(inside, ":") { // git gives the colon to ssh
			return &SyntaxError{offset + len(inside) - 1, ErrPort}
		}
		return a.setHostPort(inside, offset)
	}
	a.Host = inside
	return nil
}

// setHostPort reads host[:port] (RFC 3986, sections 3.2.2 and 3.2.3).
func (a *Address) setHostPort(text string, offset int) error {
	host, port := text, ""
	if strings.HasPrefix(text, "[") {
		end := strings.IndexByte(text, ']')
		if end < 0 {
			return &SyntaxError{offset, ErrBracket}
		}
		host, port = text[1:end], strings.TrimPrefix(text[end+1:], ":")
		if rest := text[end+1:]; rest != "" && rest[0] != ':' {
			return &SyntaxError{offset + end + 1, ErrPort}
		}
	} else if strings.Count(text, ":") > 1 { // an IPv6 literal without brackets: git looks for no port in it
		if net.ParseIP(text) == nil {
			return &SyntaxError{offset, ErrPort}
		}
	} else if colon := strings.LastIndexByte(text, ':'); colon >= 0 {
		host, port = text[:colon], text[colon+1:]
	}
	a.Host = host
	if port == "" { // "host:" is allowed and means the default
		return nil
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil || number == 0 || port[0] == '+' {
		return &SyntaxError{offset + strings.LastIndex(text, port), ErrPort}
	}
	a.Port = uint16(number)
	return nil
}

// validate refuses what git or ssh would misread, and settles the path: both forms
// drop the slash before a "~" (git's parse_connect_url).
func (a *Address) validate(userAt, hostAt, pathAt int) error {
	switch {
	case a.Host == "":
		return &SyntaxError{hostAt, ErrNoHost}
	// ssh(1) would obey such a user or host as an option, and options can run commands.
	case strings.HasPrefix(a.User, "-"):
		return &SyntaxError{userAt, ErrOption}
	case strings.HasPrefix(a.Host, "-"):
		return &SyntaxError{hostAt, ErrOption}
	case a.Path == "" || a.Path == "/":
		return &SyntaxError{pathAt, ErrNoPath}
	case strings.HasPrefix(a.Path, "-"):
		return &SyntaxError{pathAt, ErrOption}
	}
	for _, part := range []struct {
		text string
		at   int
	}{{a.User, userAt}, {a.Host, hostAt}, {a.Path, pathAt}} {
		// Escapes are undone by now: a line break must not come back that way.
		if i := strings.IndexFunc(part.text, func(r rune) bool { return r < ' ' || r == 0x7f }); i >= 0 {
			return &SyntaxError{part.at, ErrCharacter}
		}
	}
	if i := strings.IndexAny(a.Host, " '$&;|*?(){}!#%,[]"); i >= 0 {
		return &SyntaxError{hostAt + i, ErrCharacter}
	}
	if a.Scheme == "ssh" && !allow.RemoteHost(a.Host) {
		return &SyntaxError{hostAt, ErrCharacter}
	}
	// ssh(1) refuses it, too: settings may put the user into a command, for a shell to read.
	if a.Scheme == "ssh" && !allow.RemoteUser(a.User) {
		return &SyntaxError{userAt, ErrUser}
	}
	if a.Scheme == "ssh" && strings.HasPrefix(a.Path, "/~") {
		a.Path = a.Path[1:]
	}
	return nil
}

func unescape(text string, offset int) (string, error) {
	plain, err := url.PathUnescape(text)
	if err != nil {
		for i := 0; i < len(text); i++ {
			if text[i] == '%' {
				if _, err := url.PathUnescape(text[i:min(i+3, len(text))]); err != nil {
					return "", &SyntaxError{offset + i, ErrEscape}
				}
				i += 2
			}
		}
	}
	return plain, nil
}

// Repository returns the path as people name the repository: without the slash before
// it and the ".git" after it.
func (a Address) Repository() string {
	return strings.TrimSuffix(strings.Trim(a.Path, "/"), ".git")
}

// String writes the address as a URL (RFC 3986), whatever form it was read from. [Parse]
// gives an equal address for it, but for Short.
func (a Address) String() string {
	u := url.URL{Scheme: a.Scheme, Host: a.Host, Path: a.Path}
	if strings.Contains(a.Host, ":") {
		u.Host = "[" + a.Host + "]"
	}
	if a.Port != 0 {
		u.Host += ":" + strconv.Itoa(int(a.Port))
	}
	if a.User != "" {
		u.User = url.User(a.User)
	}
	if !strings.HasPrefix(u.Path, "/") { // a path below the login folder has no form of its own
		u.Path = "/" + u.Path
	}
	return u.String()
}
