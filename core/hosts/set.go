package hosts

import (
	"cmp"
	"context"
	"crypto/x509"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/workstation"
)

// ErrSetting is returned for a per-host setting that cannot be taken as it is.
var ErrSetting = fault.New("host-setting", fault.Misused, "not a setting that can be taken")

// An effect is what a per-host setting comes to: lines for ssh, variables for git.
type effect struct {
	ssh    []sshconfig.Setting
	git    []gitlink.Assignment
	author []gitlink.Assignment // in the file of the host's author
}

// A target is whose settings are made, and where.
type target struct {
	station  *workstation.Station
	hostName string // as it stands in clone URLs
	user     string // the login that everybody shares
	program  string // ours, in full
	folder   string // from folder=, for the author
	at       string // as it stands in HTTPS clone URLs, where a description says so
	other    int    // the port that the description names for networks where the first is closed
}

// settable maps the names of per-host settings to what each comes to. An empty value takes
// the setting back.
var settable = map[string]func(t *target, value string) (effect, error){
	"key": keyEffect,
	"user": func(_ *target, value string) (effect, error) {
		if value != "" && !allow.Login(value) {
			return effect{}, wrong("user", value, "a login name is needed")
		}
		return one("User", value), nil
	},
	"port": func(t *target, value string) (effect, error) {
		if value == "alternative" {
			if t.other == 0 {
				return effect{}, wrong("port", value, "the description of this host names no other port")
			}
			value = strconv.Itoa(t.other)
		}
		if port, err := strconv.ParseUint(value, 10, 16); value != "" && (err != nil || port == 0) {
			return effect{}, wrong("port", value, "a number from 1 to 65535 is needed")
		}
		return one("Port", value), nil
	},
	"address": func(_ *target, value string) (effect, error) {
		if value != "" && !allow.HostOrIP(value) {
			return effect{}, wrong("address", value, "an IP address or a host name is needed")
		}
		return one("HostName", value), nil
	},
	"keep-alive": func(_ *target, value string) (effect, error) {
		if seconds, err := strconv.ParseUint(value, 10, 16); value != "" && (err != nil || seconds == 0) {
			return effect{}, wrong("keep-alive", value, "a number of seconds is needed")
		}
		return one("ServerAliveInterval", value), nil
	},
	"via": viaEffect, "proxy": proxyEffect, "authority": authorityEffect, "by": byEffect, "folder": folderEffect,
	"in-place":     inPlaceEffect,
	"author-name":  func(t *target, value string) (effect, error) { return t.author("name", value) },
	"author-email": func(t *target, value string) (effect, error) { return t.author("email", value) },
}

func wrong(name, value, needed string) error {
	return fmt.Errorf("%s=%s: %w: %s", name, value, ErrSetting, needed)
}

func one(keyword, value string) effect {
	if value == "" {
		return effect{ssh: []sshconfig.Setting{{Keyword: keyword}}}
	}
	return effect{ssh: []sshconfig.Setting{{Keyword: keyword, Args: []string{value}}}}
}

// keyEffect makes ssh offer one key and no other. The file must be there: settings that
// point nowhere are a crux of their own.
func keyEffect(t *target, value string) (effect, error) {
	if value == "" {
		return effect{ssh: []sshconfig.Setting{{Keyword: "IdentityFile"}, {Keyword: "IdentitiesOnly"}}}, nil
	}
	path := t.station.KeyPath(value)
	if strings.ContainsAny(t.station.SSHPath(path), "\r\n\x00\"%$") {
		return effect{}, fmt.Errorf(
			"key: %w: ssh reads a quote, %%, $ or a line end in the path of a key as something else",
			ErrSetting,
		)
	}
	if _, err := os.Stat(path); err != nil {
		return effect{}, wrong("key", value, "there is no such file")
	}
	return effect{ssh: UseKey(t.station, path)}, nil
}

// viaEffect leads through one or more jump hosts, each [user@]host[:port].
func viaEffect(_ *target, value string) (effect, error) {
	if value == "" {
		return one("ProxyJump", ""), nil
	}
	for _, hop := range strings.Split(value, ",") {
		user, rest, found := strings.Cut(hop, "@")
		if !found {
			user, rest = "x", hop
		}
		name, port, found := strings.Cut(rest, ":")
		number, err := strconv.ParseUint(port, 10, 16)
		if !allow.Login(user) || !allow.Host(name) || (found && (err != nil || number == 0)) {
			return effect{}, wrong("via", value,
				"jump hosts are needed, each USER@HOST:PORT or a part of that, with commas between")
		}
	}
	return one("ProxyJump", value), nil
}

// proxyEffect leads ssh and git's HTTPS through a proxy.
func proxyEffect(t *target, value string) (effect, error) {
	key := httpKey(t.hostName, "proxy")
	if value == "" {
		return effect{ssh: one("ProxyCommand", "").ssh, git: []gitlink.Assignment{{Key: key}}}, nil
	}
	u, err := url.Parse(value)
	switch {
	case err != nil || (u.Scheme != "http" && u.Scheme != "socks5") || !allow.Host(u.Hostname()) || u.Port() == "" ||
		strings.Trim(u.Path, "/") != "" || u.RawQuery != "":
		return effect{}, wrong("proxy", maskProxy(value), "http://HOST:PORT or socks5://HOST:PORT is needed")
	case u.User != nil:
		return effect{}, fmt.Errorf("proxy: %w: a secret does not go into settings", ErrSetting)
	case t.program == "" || strings.ContainsAny(t.program, "'\"\\%\r\n"):
		return effect{}, fmt.Errorf("proxy: %w: ssh config cannot name the path of this program", ErrSetting)
	}
	place := u.Scheme + "://" + u.Host
	command := []string{"'" + t.program + "'", "for-git", "connect", place, "%h", "%p"}
	return effect{ssh: []sshconfig.Setting{{Keyword: "ProxyCommand", Line: strings.Join(command, " ")}},
		git: []gitlink.Assignment{{Key: key,
			Values: []string{strings.Replace(place, "socks5://", "socks5h://", 1)}}}}, nil
}

// maskProxy leaves out what a proxy's address says before its host.
func maskProxy(value string) string {
	if i := strings.LastIndexByte(value, '@'); i >= 0 {
		return "…" + value[i:]
	}
	return value
}

// authorityEffect makes git trust the certificates of a file, for this host alone.
func authorityEffect(t *target, value string) (effect, error) {
	a := gitlink.Assignment{Key: httpKey(t.hostName, "sslCAInfo")}
	if value == "" {
		return effect{git: []gitlink.Assignment{a}}, nil
	}
	path := t.path(value)
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return effect{}, wrong("authority", value, "there is no such file to read")
	}
	if !x509.NewCertPool().AppendCertsFromPEM(text) {
		return effect{}, wrong("authority", value, "a file with certificates (PEM) is needed")
	}
	a.Values = []string{filepath.ToSlash(path)}
	return effect{git: []gitlink.Assignment{a}}, nil
}

func byEffect(t *target, value string) (effect, error) {
	switch value {
	case "", "ssh", "https":
		return effect{git: rewriteAssignments(t.hostName, cmp.Or(t.at, t.hostName), t.user, value)}, nil
	}
	return effect{}, wrong("by", value, "ssh or https is needed")
}

// inPlaceEffect lets git start ssh through us, so that what stops a clone or push is named where it
// appears. git has one ssh for all hosts: so has this.
func inPlaceEffect(t *target, value string) (effect, error) {
	command, variant := gitlink.Assignment{Key: "core.sshCommand"}, gitlink.Assignment{Key: "ssh.variant"}
	switch value {
	case "off", "":
		return effect{git: []gitlink.Assignment{command, variant}}, nil
	case "on":
		command.Values, variant.Values = []string{gitlink.OurSSH(t.program)}, []string{"ssh"}
		return effect{git: []gitlink.Assignment{command, variant}}, t.ownSSH()
	}
	return effect{}, wrong("in-place", value, "on or off is needed")
}

// ownSSH refuses where git is told already which ssh to start: that is the person's.
func (t *target) ownSSH() error {
	config, err := gitlink.ReadConfig(context.Background(), t.station)
	if err != nil {
		return err
	}
	if set, found := config.Last("core.sshcommand"); found && !gitlink.IsOurSSH(strings.Fields(set.Value)) {
		return wrong(
			"in-place",
			"on",
			"git is already configured to start another ssh, in "+t.station.Tilde(set.Origin),
		)
	}
	return nil
}

// folderEffect says below which folder the author holds; without it, for all of the host's
// repositories.
func folderEffect(t *target, value string) (effect, error) {
	if value == "" {
		return effect{}, nil
	}
	t.folder = t.path(value)
	if info, err := os.Stat(t.folder); err != nil || !info.IsDir() {
		return effect{}, wrong("folder", value, "there is no such folder")
	}
	return effect{}, nil
}

func (t *target) author(variable, value string) (effect, error) {
	if strings.ContainsFunc(value, unicode.IsControl) || strings.ContainsAny(value, "<>") {
		return effect{}, wrong("author-"+variable, value, "one line without < and > is needed")
	}
	a := gitlink.Assignment{Key: "user." + variable}
	if value != "" {
		a.Values = []string{value}
	}
	return effect{author: []gitlink.Assignment{a}}, nil
}

// path reads a path that a person names: in the current folder unless it says otherwise.
func (t *target) path(text string) string {
	if strings.HasPrefix(text, "~/") || filepath.IsAbs(text) {
		return t.station.KeyPath(text)
	}
	return filepath.Join(t.station.Folder, text)
}

// Set puts per-host settings, each NAME=VALUE, into our files. host is a described host's
// name, or any host name. Set again, nothing changes. program is ours, in full.
func Set(ctx context.Context, batch *workstation.Batch, station *workstation.Station, registry *Registry, program,
	host string, pairs []string) error {
	hostName, err := registry.HostName(host)
	if err != nil {
		return err
	}
	t := &target{station: station, hostName: hostName, user: "git", program: program}
	if d := registry.ForHost(hostName); d != nil {
		t.user, t.other, t.at = d.SSH.User, d.SSH.Other, d.HTTPSAt()
	}
	pairs, choices := splitChosen(pairs)
	all, err := t.effects(pairs)
	if err != nil {
		return err
	}
	if err := setChosen(batch, station, registry.ForHost(hostName), choices); err != nil {
		return err
	}
	if len(all.ssh) > 0 {
		if err := Settle(batch, station, hostName, all.ssh...); err != nil {
			return err
		}
	}
	if len(all.author) > 0 || t.folder != "" {
		path := authorFile(station, hostName)
		if err := editGit(ctx, batch, station, path, fmt.Sprintf("Say who commits for %s are by.", hostName),
			all.author); err != nil {
			return err
		}
		left, err := gitlink.Entries(path)
		if err != nil {
			return err
		}
		all.git = append(all.git, authorAssignments(station, hostName, t.folder, batch.Dry || len(left) > 0)...)
	}
	if d := registry.ForHost(hostName); d != nil && slices.Contains(pairs, "by=https") {
		if err := SettleHTTPS(ctx, batch, station, d, program); err != nil {
			return err
		}
	}
	if len(all.git) == 0 {
		return nil
	}
	return SettleGit(ctx, batch, station, fmt.Sprintf("Settle how git reaches %s.", hostName), all.git)
}

// effects reads all pairs before anything is changed.
func (t *target) effects(pairs []string) (all effect, err error) {
	var used []string
	for _, pair := range pairs {
		name, value, found := strings.Cut(pair, "=")
		make, known := settable[name]
		if near := suggest.Nearest(name, SettingNames()); found && near != "" {
			return all, &suggest.UnknownError{Name: name, Near: near, Err: ErrSetting}
		}
		if !found || !known {
			return all, fmt.Errorf("%s: %w: the form NAME=VALUE is needed, with one of the names %s", name, ErrSetting,
				strings.Join(SettingNames(), ", "))
		}
		e, err := make(t, value)
		if err != nil {
			return all, err
		}
		if value != "" { // ssh goes one way or the other
			switch {
			case name == "via" && slices.Contains(used, "proxy"), name == "proxy" && slices.Contains(used, "via"):
				return all, fmt.Errorf(
					"%w: ssh goes through jump hosts or through a proxy, not through both",
					ErrSetting,
				)
			case name == "via":
				e.ssh = append(e.ssh, sshconfig.Setting{Keyword: "ProxyCommand"})
			case name == "proxy":
				e.ssh = append(e.ssh, sshconfig.Setting{Keyword: "ProxyJump"})
			}
			used = append(used, name)
		}
		all.ssh, all.git, all.author = append(all.ssh, e.ssh...), append(all.git, e.git...),
			append(all.author, e.author...)
	}
	return all, nil
}

// SettingNames lists the names that [Set] takes.
func SettingNames() []string {
	names := make([]string, 0, len(settable))
	for name := range settable {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// HostName is the name in clone URLs of a host that is described, or of any other.
func (r *Registry) HostName(host string) (string, error) {
	if d, err := r.Find(host); err == nil {
		return d.HostName(), nil
	}
	if !allow.Host(strings.TrimSuffix(host, ".")) { // with the dot that ends a full name (RFC 1034, section 3.1)
		return "", fmt.Errorf("%s: %w", host, ErrUnknown)
	}
	return host, nil
}

// Drop forgets a host: its description and our settings for it. Keys, and what is stored
// about the host's own key, stay. Dropped again, nothing changes.
func Drop(ctx context.Context, batch *workstation.Batch, station *workstation.Station, registry *Registry,
	host string) error {
	hostName, err := registry.HostName(host)
	if err != nil {
		return err
	}
	if d := registry.ForHost(hostName); d != nil && d.ForAccount != "" {
		return DropAccount(ctx, batch, station, registry, d.Name)
	}
	if err := managed(registry.ForHost(hostName)); err != nil {
		return err
	}
	for _, a := range registry.accounts {
		if a.Host.HostName() == hostName {
			if err := DropAccount(ctx, batch, station, registry, a.Name+"@"+a.Host.Name); err != nil {
				return err
			}
		}
	}
	if err := dropBlock(batch, station, hostName); err != nil {
		return err
	}
	at := hostName
	d := registry.ForHost(hostName)
	if d != nil {
		at = d.HTTPSAt()
	}
	if err := dropGit(ctx, batch, station, hostName, at); err != nil {
		return err
	}
	if d != nil {
		for _, file := range []struct{ name, words string }{
			{filepath.Join(folder(station), d.Name+".pem"), "Forget the certificate authority of %s."},
			{fromFile(station, d), "Forget from where the description of %s came."},
			{chosenFile(station, d), "Forget what was chosen at %s."},
			{filepath.Join(folder(station), d.Name+".toml"), "Forget the description of %s."},
		} {
			if err := batch.Remove(file.name, fmt.Sprintf(file.words, d.Name)); err != nil {
				return err
			}
		}
	}
	return nil
}
