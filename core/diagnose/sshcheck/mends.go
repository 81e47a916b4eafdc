package sshcheck

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
)

// Mends lists what removes a crux on the way over SSH, the best first. account is who signed in, where that is known.
func Mends(s Settled, account string, crux *finding.Crux) []finding.Mend {
	mend := s.CatalogueMend(crux, account, s.KnownHosts())
	if list := s.byCode(mend, crux); len(list) > 0 {
		return list
	}
	if list := s.Located.Mends(mend, crux, s.KnownHosts()); len(list) > 0 {
		return list
	}
	if crux.Code == causes.KeyNotOffered &&
		slices.Contains(s.unfit, crux.Key) { // no line for the key would change what it is
		return []finding.Mend{
			s.makeMend("Make a key for " + s.Question.Host + " that the setting allows, and register it."),
		}
	}
	if key := s.fittingKey(crux); key != "" {
		mend.By = causes.You
		return []finding.Mend{s.useKey(mend, key)}
	}
	if crux.Code == causes.KeyOtherAccount && s.Host != nil && s.Host.ForAccount != "" {
		return []finding.Mend{s.makeMend("Make a key of its own for " + s.Host.Name + ".")}
	}
	if settings := s.strayed(crux); len(settings) > 0 {
		return []finding.Mend{s.settleMend(settings)}
	}
	return []finding.Mend{mend}
}

// byCode are the mends of causes that have some of their own.
func (s Settled) byCode(mend finding.Mend, crux *finding.Crux) []finding.Mend {
	switch crux.Code {
	case causes.KeyLocked:
		return s.lockedMends(mend, crux)
	case causes.KeyNone, causes.AgentUnreachable, causes.KeyKindRefused:
		return s.keyMends(mend, crux)
	case causes.HostKeyUnknown:
		return []finding.Mend{s.trustMend(mend, crux)}
	case causes.HostKeyChanged:
		return []finding.Mend{s.trust(mend)}
	case causes.KeyNotRegistered:
		return []finding.Mend{s.registerMend(mend)}
	case causes.JumpFailed:
		return crux.Mends
	case causes.SSHPortBlocked:
		port := strconv.Itoa(s.Host.SSH.Other)
		settings := []sshconfig.Setting{{Keyword: "Port", Args: []string{port}}}
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.SettleHost, Settings: settings},
			s.ourSettings(), localcheck.Unicrux, "host", "set", s.Question.Host, "port="+port)}
	case causes.KeyFileExposed:
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.Restrict, File: crux.Path},
			"the permissions of "+s.Station.Tilde(crux.Path), "chmod", "600", crux.Path)}
	case causes.KeyPairMismatch:
		return []finding.Mend{s.rewritePublic(mend)}
	case causes.FileMissing:
		return s.readable(mend, crux)
	case causes.OtherUser:
		config := filepath.Join(s.Station.SSHDir(), "config")
		if s.Host == nil && s.Station.SameHome() {
			mend.Summary = "Run it without sudo, as " + s.Station.Getenv("SUDO_USER") + "."
			return []finding.Mend{mend}
		}
		if _, err := os.Stat(config); s.Host == nil && err != nil {
			mend.Summary = "Set HOME to " + s.Station.SSHHome + " for git, or run it as the user to whom " +
				s.Station.Home + " belongs."
			return []finding.Mend{mend}
		}
		if s.Hg == nil { // what the mend sets is git's
			return []finding.Mend{s.nameSSH(mend)}
		}
	}
	return nil
}

// readable are the mends of a file that is there and that ssh cannot read; nil for another one.
func (s Settled) readable(mend finding.Mend, crux *finding.Crux) []finding.Mend {
	info, err := os.Stat(crux.Path)
	if crux.Path == "" || err != nil || !info.Mode().IsRegular() {
		return nil
	}
	if s.Station.Owns(crux.Path) {
		mend.Summary = "Make it readable for you."
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.Restrict, File: crux.Path},
			"the permissions of "+s.Station.Tilde(crux.Path), "chmod", "600", crux.Path)}
	}
	mend.Summary, mend.Command = "Make it yours again.", []string{"sudo", "chown", s.Station.User, crux.Path}
	return []finding.Mend{mend}
}

// nameSSH makes git start ssh with the settings that it would not read by itself.
func (s Settled) nameSSH(mend finding.Mend) finding.Mend {
	config := filepath.Join(s.Station.SSHDir(), "config")
	return s.Command(mend, finding.Action{Do: finding.NameSSH, File: config},
		s.Station.Tilde(filepath.Join(s.Station.Home, ".gitconfig")),
		"git", "config", "--global", "core.sshCommand", shellwords.Join("ssh", "-F", config))
}

// ourSettings is the file of ours as people know it.
func (s Settled) ourSettings() string { return s.Station.Tilde(hosts.OurFile(s.Station)) }

// keyMends: a key can be made at once, whatever became of the agent.
func (s Settled) keyMends(mend finding.Mend, crux *finding.Crux) []finding.Mend {
	make := s.makeMend("Make a key for " + s.Question.Host + ".")
	if crux.Code == causes.AgentUnreachable {
		return []finding.Mend{mend, make}
	}
	return []finding.Mend{make}
}

// makeMend: only a described host has settings that can be made to use the new key.
func (s Settled) makeMend(summary string) finding.Mend {
	host := s.Question.Host
	mend := finding.Mend{Summary: summary, By: causes.You}
	if s.Host == nil {
		// a name under which ssh looks by itself
		mend.Command = []string{localcheck.Unicrux, "key", "new", "id_ed25519"}
		return mend
	}
	return s.Command(mend, finding.Action{Do: finding.MakeKey},
		"a new pair in "+s.Station.Tilde(s.Station.SSHDir())+", "+s.ourSettings(),
		localcheck.Unicrux, "key", "new", "--host", host)
}

// lockedMends: into the holder, or the agent that the person's settings name. Where that one
// does not answer, only a terminal helps.
func (s Settled) lockedMends(terminal finding.Mend, crux *finding.Crux) []finding.Mend {
	if s.Passage.AgentErr != nil && s.Passage.Client.Origin("identityagent").File != "" {
		return []finding.Mend{terminal}
	}
	load := finding.Mend{Summary: "Unlock it once, and let it be held unlocked for a working day.", By: causes.You}
	name := crux.Key
	if filepath.Dir(name) == s.Station.SSHDir() {
		name = filepath.Base(name)
	}
	command := []string{localcheck.Unicrux, "key", "load", name, "--for", "8h"}
	if s.Host == nil {
		command = append(command, "--host", s.Address.Host)
	}
	load = s.Command(load, finding.Action{Do: finding.LoadKey, Key: crux.Key},
		"which agent ssh asks for "+s.Question.Host+", and what it holds", command...)
	load.Automatic = !crux.Mute
	return []finding.Mend{load, terminal}
}

// trust: by a command, unless settings name no file in which a host key could be stored.
func (s Settled) trust(mend finding.Mend) finding.Mend {
	if len(s.Passage.Client.KnownHosts) == 0 {
		return mend
	}
	return s.Command(mend, finding.Action{Do: finding.TrustHost},
		"the host keys in "+s.Station.Tilde(s.Passage.Client.KnownHosts[0]),
		localcheck.Unicrux, "host", "trust", s.Question.Host)
}

// trustMend: automatic only when the host publishes a key that it has proved to have.
func (s Settled) trustMend(mend finding.Mend, crux *finding.Crux) finding.Mend {
	if crux.Vouched {
		return s.trust(mend)
	}
	name := s.Question.Host
	if client := s.Passage.Client; s.Host == nil && client.Port != 22 {
		name = client.HostName + ":" + strconv.Itoa(client.Port)
	}
	return s.asks(finding.Mend{
		Summary: "Ask whoever runs the host for the fingerprint of its key, by another way than this connection, and give it to Unicrux.",
		Command: []string{localcheck.Unicrux, "host", "trust", name, "--fingerprint", "FINGERPRINT"}, By: causes.You},
		finding.Action{Do: finding.CompareHost})
}

// asks completes a mend for which a person has to do something besides.
func (s Settled) asks(mend finding.Mend, action finding.Action) finding.Mend {
	mend = s.Command(mend, action, "", mend.Command...)
	mend.Automatic = false
	return mend
}

// registerMend: by the host's interface where it has one, else by hand.
func (s Settled) registerMend(mend finding.Mend) finding.Mend {
	host := s.Question.Host
	key, found := s.worthyKey()
	if !found && s.Host != nil {
		return s.makeMend(
			"The keys that were offered are weak by today's standards. Make a better one for " + host + ".",
		)
	}
	name := key.Name
	if key.Path != "" && filepath.Dir(key.Path) != s.Station.SSHDir() {
		name = key.Path
	}
	switch {
	case s.Host == nil:
		return finding.Mend{
			Summary: "Give the host the public line of the key, on its page or by whoever runs it. This prints the line and nothing else.",
			Command: []string{localcheck.Unicrux, "key", "show", name, "--line"},
			By:      causes.You,
		}
	case !s.Host.Can("add-key"):
		mend.Command = []string{localcheck.Unicrux, "key", "register", name, host, "--by-hand"}
		return s.asks(mend, finding.Action{Do: finding.PasteKey, Key: key.Path})
	case key.Path == "": // only in the agent: its file is not ours to find
		return mend
	}
	return s.Command(mend, finding.Action{Do: finding.RegisterKey, Key: key.Path},
		"the keys that "+host+" knows, "+s.ourSettings(),
		localcheck.Unicrux, "key", "register", name, host)
}

func (s Settled) rewritePublic(mend finding.Mend) finding.Mend {
	for _, key := range s.Keys {
		if key.Pair != nil && key.Pair.PublicBad != nil && key.Pair.Public != nil {
			return s.Command(mend, finding.Action{Do: finding.WritePublic, Key: key.Path},
				s.Station.Tilde(key.Path)+".pub", s.Again()...)
		}
	}
	return mend
}

// stays are causes that another line for a key would leave as they are.
var stays = []causes.Code{causes.KeyInDevice, causes.PassphraseWrong, causes.AgentRefused, causes.SSHSettingHinders}

// fittingKey finds the key that would serve: one that the host knows, or the private half
// of the public one that settings name.
func (s Settled) fittingKey(crux *finding.Crux) string {
	if crux.Key != "" && !slices.Contains(stays, crux.Code) {
		return crux.Key
	}
	if private, found := strings.CutSuffix(crux.Path, ".pub"); found && crux.Code == causes.KeyFilePublic {
		if _, err := sshkey.Load(private); err == nil {
			return private
		}
	}
	return ""
}

func (s Settled) useKey(mend finding.Mend, path string) finding.Mend {
	mend.Summary = fmt.Sprintf("Make the settings for %s use %s.", s.Question.Host, s.Station.Tilde(path))
	return s.Command(mend, finding.Action{Do: finding.UseKey, Key: path}, s.ourSettings(), localcheck.Unicrux, "host",
		"set", s.Question.Host, "key="+s.Station.Tilde(path))
}

// strayed returns what our settings for a described host would have to be when they lead
// elsewhere than its description.
func (s Settled) strayed(crux *finding.Crux) []sshconfig.Setting {
	if s.Undescribed() || !s.Host.HasSSH() || crux.Stage != causes.Reach || s.Passage == nil {
		return nil
	}
	wanted := s.Host.HostName()
	if s.Host.SSH.Address != "" {
		wanted = s.Host.SSH.Address
	}
	client := s.Passage.Client
	if client.Port == s.Host.Port() && allow.SameHost(client.HostName, wanted) {
		return nil
	}
	if _, err := os.Stat(hosts.OurFile(s.Station)); err != nil {
		return nil
	}
	return []sshconfig.Setting{{Keyword: "HostName", Args: []string{wanted}},
		{Keyword: "Port", Args: []string{strconv.Itoa(s.Host.Port())}}}
}

func (s Settled) settleMend(settings []sshconfig.Setting) finding.Mend {
	host := s.Question.Host
	mend := finding.Mend{Summary: "The settings lead elsewhere than the description of " + host +
		". Make them lead where it says.", By: causes.You}
	return s.Command(mend, finding.Action{Do: finding.SettleHost, Settings: settings}, s.ourSettings(),
		localcheck.Unicrux, "host", "set", host, "address="+settings[0].Args[0], "port="+settings[1].Args[0])
}
