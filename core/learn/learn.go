// Package learn makes a small description of a host that nobody has described, of what a clone URL and the person's own
// configuration say: where the host is, and no more.
package learn

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/site"
)

// Reasons for which nothing is learned, for errors.Is.
var (
	// ErrDescribed is returned, wrapped with the host's name, for a URL about which its description says all already.
	ErrDescribed = fault.New("learn-described", fault.Refused, "this host is described already")
	// ErrTransport is returned for a URL that is neither SSH's nor HTTPS's.
	ErrTransport = fault.New("learn-transport", fault.Misused, "a host is learned from a clone URL over SSH or HTTPS")
	// ErrName is returned for a name that is no short word, or that another host has.
	ErrName = fault.New("learn-name", fault.Misused, "not a name that this host can have")
	// ErrPlain is returned for plain http, over which no secret may go.
	ErrPlain = fault.New("learn-plain", fault.Misused, "plain http hides nothing, so no secret goes to this host")
)

// A file is a learned description as it is written.
type file struct {
	Version int    `toml:"unicrux"`
	Name    string `toml:"name"`
	Title   string `toml:"title"`
	Learned string `toml:"learned"`
	SSH     *ssh   `toml:"ssh,omitempty"`
	HTTPS   *https `toml:"https,omitempty"`
}

type ssh struct {
	Host string `toml:"host"`
	User string `toml:"user"`
	Port int    `toml:"port,omitempty"`
}

type https struct {
	URL       string `toml:"url"`
	Username  string `toml:"username"`
	Authority string `toml:"authority,omitempty,multiline"`
}

const head = `# Unicrux learned this host from a clone URL. Nobody has described its API, so keys and tokens are registered
# on its web page. A description that somebody wrote can take its place: unicrux host add FILE
`

// Host makes the description of the host of a clone URL, or adds to a learned one what the URL says besides: git
// reaches it over SSH, or over HTTPS. name is what the host shall be called; empty for the most telling word of its
// host name. The error is or wraps one of this package, or is about the person's configuration.
func Host(ctx context.Context, p site.Site, a address.Address, name string) (hosts.Source, error) {
	known := p.Registry.ForHost(a.Host)
	if known == nil && a.Scheme == "https" {
		known = p.Registry.ForWeb(at(a))
	}
	f := file{Version: describe.Version, Title: a.Host, Learned: p.Station.Now().Format(time.DateOnly)}
	switch {
	case known != nil && !known.IsLearned():
		return hosts.Source{}, fmt.Errorf("%s: %w", known.Name, ErrDescribed)
	case known != nil && name != "" && name != known.Name:
		return hosts.Source{}, fmt.Errorf("%s: %w: it is called %s here already", name, ErrName, known.Name)
	case known != nil:
		f = again(known)
	}
	var err error
	if f.Name, err = nameFor(p.Registry, a, f.Name, name); err != nil {
		return hosts.Source{}, err
	}
	switch {
	case a.Scheme == "ssh" && f.SSH == nil:
		f.SSH, err = overSSH(ctx, p, a)
	case a.Scheme == "https" && f.HTTPS == nil:
		f.HTTPS = &https{URL: "https://" + at(a) + "/", Username: "{account}"}
	case a.Scheme == "http":
		err = ErrPlain
	case a.Scheme != "ssh" && a.Scheme != "https":
		err = ErrTransport
	default:
		err = fmt.Errorf("%s: %w", f.Name, ErrDescribed)
	}
	if err != nil {
		return hosts.Source{}, err
	}
	return f.source()
}

// Trusting is a learned description with a certificate authority, PEM, that vouches for the host over HTTPS.
func Trusting(d *describe.Description, authority string) (hosts.Source, error) {
	f := again(d)
	if !d.IsLearned() || f.HTTPS == nil {
		return hosts.Source{}, fmt.Errorf("%s: %w", d.Name, ErrDescribed)
	}
	f.HTTPS.Authority = authority
	return f.source()
}

// again is the file of which a learned description was read.
func again(d *describe.Description) file {
	f := file{Version: describe.Version, Name: d.Name, Title: d.Title, Learned: d.Learned}
	if d.HasSSH() {
		f.SSH = &ssh{d.SSH.Host, d.SSH.User, d.SSH.Port}
	}
	if d.HTTPS.URL != "" {
		f.HTTPS = &https{d.HTTPS.URL, d.HTTPS.Username, d.HTTPS.Authority}
	}
	return f
}

func (f file) source() (hosts.Source, error) {
	var b bytes.Buffer
	b.WriteString(head)
	encoder := toml.NewEncoder(&b)
	encoder.SetTablesInline(false)
	if err := encoder.Encode(f); err != nil {
		return hosts.Source{}, err
	}
	d, err := describe.Parse(b.Bytes())
	return hosts.Source{Description: d, Text: b.Bytes(), From: "a clone URL"}, err
}

// overSSH is how ssh would go there: the login is that of the URL, or of the person's ssh config.
func overSSH(ctx context.Context, p site.Site, a address.Address) (*ssh, error) {
	if a.User == "" {
		way, err := p.Prepare(ctx, a)
		if err != nil {
			return nil, err
		}
		a.User = way.Client.User
		_ = way.Close() // the agent was not asked for anything
	}
	return &ssh{a.Host, a.User, int(a.Port)}, nil
}

// at is the host, with its port where the URL has one other than 443, as it is in HTTPS clone URLs.
func at(a address.Address) string {
	host := allow.LowerHost(a.Host)
	if a.Port != 0 && a.Port != 443 {
		return net.JoinHostPort(host, strconv.Itoa(int(a.Port)))
	}
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	return (&url.URL{Host: host}).Host
}

// nameFor settles what the host is called: as the person says, as before, or by its host name.
func nameFor(registry *hosts.Registry, a address.Address, before, wanted string) (string, error) {
	taken := func(name string) bool {
		return slices.ContainsFunc(registry.Hosts, func(d *describe.Description) bool { return d.Name == name })
	}
	switch {
	case wanted != "" && !allow.Name(wanted):
		return "", fmt.Errorf("%s: %w: a short word of small letters, digits and hyphens is needed", wanted, ErrName)
	case wanted != "" && wanted != before && taken(wanted):
		return "", fmt.Errorf("%s: %w: another host has it", wanted, ErrName)
	case wanted != "":
		return wanted, nil
	case before != "":
		return before, nil
	}
	return Name(a.Host, taken), nil
}

// usual are the first words of host names that say only that it is a code host.
var usual = []string{"git", "code", "ssh", "altssh", "www", "scm", "vcs", "hg", "source", "src", "repo", "repos", "dev"}

// Name is the most telling word of a host name: its first that says more than that it is a code host, and is not its
// last. Where another host has it, the next word is put behind it, and then a number.
func Name(host string, taken func(string) bool) string {
	words := strings.FieldsFunc(strings.ToLower(host), func(c rune) bool { return c == '.' || c == ':' })
	for i := range words {
		words[i] = strings.Trim(onlyNameLetters(words[i]), "-")
	}
	first := 0
	for first < len(words)-2 && slices.Contains(usual, words[first]) {
		first++
	}
	if net.ParseIP(host) != nil {
		words, first = []string{strings.Join(words, "-")}, 0
	}
	names := []string{}
	if len(words) > 0 {
		names = append(names, words[first])
		if first+1 < len(words)-1 {
			names = append(names, words[first]+"-"+words[first+1])
		}
		if first > 0 {
			names = append(names, words[first]+"-"+words[0])
		}
	}
	for i, name := range names {
		if name == "" || name[0] < 'a' || name[0] > 'z' { // a name begins with a letter
			name = strings.Trim("host-"+name, "-")
		}
		names[i] = strings.TrimRight(name[:min(len(name), longest)], "-")
		if !taken(names[i]) {
			return names[i]
		}
	}
	if len(names) == 0 {
		names = []string{"host"}
	}
	for n := 2; ; n++ {
		if name := fmt.Sprintf("%s-%d", names[0], n); !taken(name) {
			return name
		}
	}
}

// longest leaves room for a number behind a name ([allow.Name]).
const longest = 26

func onlyNameLetters(word string) string {
	return strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' {
			return c
		}
		return -1
	}, word)
}
