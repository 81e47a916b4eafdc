package effective

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/workstation"
)

// Why a value of git's does not hold.
const (
	byEnvironment = "an environment variable wins"
	bySetting     = "a setting wins"
)

// variables of the environment that stand for a setting of git's ("ENVIRONMENT VARIABLES" in
// git(1), and git-config(1)). Those that give way are used only where nothing is set.
var variables = []struct {
	variable, name string
	givesWay       bool
}{
	{"GIT_SSL_CAINFO", "http.sslcainfo", false}, {"GIT_SSL_CAPATH", "http.sslcapath", false},
	{"GIT_SSL_CERT", "http.sslcert", false}, {"GIT_SSL_KEY", "http.sslkey", false},
	{"GIT_SSL_NO_VERIFY", "http.sslverify", false},
	{"GIT_ASKPASS", "core.askpass", false}, {"SSH_ASKPASS", "core.askpass", true},
	{"GIT_SSH_COMMAND", "core.sshcommand", false},
	{"HTTPS_PROXY", "http.proxy", true}, {"https_proxy", "http.proxy", true}, {"ALL_PROXY", "http.proxy", true},
	{"all_proxy", "http.proxy", true},
	{"GIT_AUTHOR_NAME", "user.name", false}, {"GIT_AUTHOR_EMAIL", "user.email", false},
	{"NO_PROXY", "no proxy for", false}, {"no_proxy", "no proxy for", false},
	{"CURL_CA_BUNDLE", "authority of the library", false}, {"SSL_CERT_FILE", "authority of the library", false},
}

// addGit adds what git would use for the host over HTTPS, whom commits are by, and what
// rewrites its URLs.
func (v *View) addGit(station *workstation.Station, config *gitlink.Config) {
	target := "https://" + v.Host + "/"
	var found []gitlink.URLSetting
	for _, section := range []string{"http", "credential"} {
		found = append(found, config.For(section, target)...)
	}
	for _, name := range []string{"user.name", "user.email", "core.sshcommand", "core.askpass"} {
		if entries := config.All(name); len(entries) > 0 {
			found = append(found, lastOf(name, entries))
		}
	}
	for _, setting := range found {
		s := Setting{Name: setting.Name, Value: mask(setting.Name, setting.Entry.Value),
			Origin: where(config, setting.Entry)}
		for _, lost := range setting.Lost {
			s.Lost = append(s.Lost, Lost{mask(setting.Name, lost.Entry.Value), where(config, lost.Entry), lost.Why})
		}
		v.Git = append(v.Git, s)
	}
	v.addEnvironment(station)
	for _, rule := range config.Rules() {
		for _, begin := range []string{target, "ssh://git@" + v.Host + "/", "git@" + v.Host + ":",
			"http://" + v.Host + "/"} {
			if strings.HasPrefix(begin, rule.Prefix) || strings.HasPrefix(rule.Prefix, begin) {
				name := map[bool]string{false: "rewritten", true: "rewritten for pushing"}[rule.PushOnly]
				v.Git = append(v.Git, Setting{Name: name, Value: rule.Prefix + " -> " + shown(rule.Base),
					Origin: rule.Origin})
				break
			}
		}
	}
}

func lastOf(name string, entries []gitlink.Entry) gitlink.URLSetting {
	last := len(entries) - 1
	s := gitlink.URLSetting{Name: name, Entry: entries[last]}
	for _, entry := range entries[:last] {
		s.Lost = append(s.Lost, gitlink.Lost{Entry: entry, Why: "a later line wins"})
	}
	return s
}

func where(config *gitlink.Config, entry gitlink.Entry) string {
	if n := entry.Line(); n > 0 {
		return fmt.Sprintf("%s:%d", entry.Origin, n)
	}
	return entry.Origin
}

// addEnvironment puts variables of the environment where they win, or lose.
func (v *View) addEnvironment(station *workstation.Station) {
	for _, known := range variables {
		value := station.Getenv(known.variable)
		if value == "" {
			continue
		}
		if known.variable == "GIT_SSL_NO_VERIFY" {
			value = "false"
		}
		value, origin := mask(known.name, value), "environment: "+known.variable
		set := -1
		for i, s := range v.Git {
			if s.Name == known.name {
				set = i
			}
		}
		switch {
		case set < 0:
			v.Git = append(v.Git, Setting{Name: known.name, Value: value, Origin: origin})
		case known.givesWay:
			v.Git[set].Lost = append(v.Git[set].Lost, Lost{value, origin, bySetting})
		default:
			old := v.Git[set]
			v.Git[set] = Setting{Name: old.Name, Value: value, Origin: origin,
				Lost: append([]Lost{{old.Value, old.Origin, byEnvironment}}, old.Lost...)}
		}
	}
}

// mask hides what may be a secret: what a header says, and who signs in to a proxy.
func mask(name, value string) string {
	if name == "http.extraheader" {
		head, _, found := strings.Cut(value, ":")
		if !found {
			return secret.Mask
		}
		return head + ": " + secret.Mask
	}
	return shown(value)
}

func shown(text string) string {
	text, _ = address.HideSecret(text)
	return text
}
