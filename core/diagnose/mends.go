package diagnose

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
)

// program is how our own commands begin.
const program = "unicrux"

// An Act is what a deed does.
type Act string

// The acts that package ready carries out.
const (
	MakeKey     Act = "make a key"            // for Host
	TrustHost   Act = "trust a host"          // Host
	RegisterKey Act = "register a key"        // Key with Host
	UseKey      Act = "use a key"             // Key in the settings for Host
	LoadKey     Act = "load a key"            // Key into the agent
	SettleHost  Act = "settle a host"         // Settings for Host
	Restrict    Act = "restrict a file"       // File to its owner
	WritePublic Act = "write a public half"   // of Key
	SetRemote   Act = "set a remote"          // Remote to URL
	UseURL      Act = "use a URL"             // URL in place of the one that was given
	NameSSH     Act = "name the ssh settings" // File, in git's configuration
	SettleWeb   Act = "settle https"          // for Host, as its description says
	AskFirst    Act = "ask the chest alone"   // for Host, whatever other helpers there are
	GetToken    Act = "get a token"           // for Host and Purpose, into the chest
	OpenChest   Act = "open the chest"        // in the holder
)

// A Deed is a mend in the form in which it is carried out.
type Deed struct {
	Do          Act
	Host        string // the host as people call it
	HostName    string // the name in clone URLs
	Key         string // path of a private file
	File        string
	Remote, URL string
	OtherHost   string // that URL names, where it is not the one that was asked for; empty where it is
	Purpose     Purpose
	Settings    []sshconfig.Setting
}

// mends lists what removes the crux, the best first.
func (c *checker) mends(crux *Crux) []Mend {
	entry, _ := find(crux.Code)
	words := entry.mend
	if own, found := hgMends[crux.Code]; found && c.hg != nil {
		words = own
	}
	mend := Mend{Summary: c.fill(words, crux), By: entry.by}
	if command := c.exact(crux); command != nil && c.base != nil {
		if mend.Command = command; crux.Code == "repository-not-git" {
			mend.Summary, mend.By = "The URL is right, for another program.", You
		}
		return []Mend{mend}
	}
	if c.base != nil && (slices.Index(Stages, crux.Stage) >= slices.Index(Stages, Reach) || crux.Code == "helper-stale" || crux.Code == "chest-closed" || crux.Code == "token-elsewhere") {
		return c.webMends(mend, crux)
	}
	switch crux.Code {
	case "key-locked":
		return c.lockedMends(mend, crux)
	case "key-none", "agent-unreachable", "key-kind-refused", "key-ended":
		return c.keyMends(mend, crux)
	case "host-key-unknown":
		return []Mend{c.trustMend(mend, crux)}
	case "host-key-changed":
		return []Mend{c.trust(mend)}
	case "key-not-registered":
		return []Mend{c.registerMend(mend)}
	case "jump-failed":
		if len(c.jumpMends) > 0 {
			return c.jumpMends
		}
	case "ssh-port-blocked":
		port := strconv.Itoa(c.host.SSH.Other)
		return []Mend{c.command(mend, Deed{Do: SettleHost, Settings: []sshconfig.Setting{{Keyword: "Port", Args: []string{port}}}}, c.ourSettings(),
			program, "host", "set", c.way.Question.Host, "port="+port)}
	case "key-file-exposed":
		return []Mend{c.command(mend, Deed{Do: Restrict, File: crux.path}, "the permissions of "+c.station.Tilde(crux.path), "chmod", "600", crux.path)}
	case "key-pair-mismatch":
		return []Mend{c.rewritePublic(mend)}
	case "other-user":
		if c.hg != nil { // what the mend sets is git's
			break
		}
		config := filepath.Join(c.station.SSHDir(), "config")
		return []Mend{c.command(mend, Deed{Do: NameSSH, File: config}, c.station.Tilde(filepath.Join(c.station.Home, ".gitconfig")),
			"git", "config", "--global", "core.sshCommand", "ssh -F '"+config+"'")}
	}
	if url := c.betterURL(crux); url != "" {
		return []Mend{c.urlMend(mend, crux, url)}
	}
	if command := c.exact(crux); command != nil {
		mend.Command = command
		return []Mend{mend}
	}
	if key := c.fittingKey(crux); key != "" {
		mend.By = You
		return []Mend{c.useKey(mend, key)}
	}
	if crux.Code == "key-other-account" && c.host != nil && c.host.ForAccount != "" {
		return []Mend{c.makeMend("Make a key of its own for " + c.host.Name + ".")}
	}
	if settings := c.strayed(crux); len(settings) > 0 {
		return []Mend{c.settleMend(settings)}
	}
	return []Mend{mend}
}

// exact is the command by which the person mends what is theirs to decide; nil for none.
func (c *checker) exact(crux *Crux) []string {
	switch crux.Code {
	case "repository-not-git":
		if c.base != nil && slices.ContainsFunc(crux.Evidence, func(e Evidence) bool { return e.Label == otherThere }) {
			return []string{string(c.otherThan()), "clone", c.base.String()}
		}
	case "repository-owner":
		return []string{"git", "config", "--global", "--add", "safe.directory", c.station.Folder}
	case "url-rewritten":
		name := ".insteadOf"
		if c.rule.PushOnly {
			name = ".pushInsteadOf"
		}
		return []string{"git", "config", "--file", c.rule.Origin, "--unset-all", "url." + c.rule.Base + name, "^" + regexp.QuoteMeta(c.rule.Prefix) + "$"}
	case "ssh-program-unknown":
		return []string{"git", "ls-remote", c.way.Question.URL}
	case "branch-untracked":
		return []string{"git", "push", "--set-upstream", c.way.Question.Remote, "HEAD"}
	case "history-diverged":
		return []string{"git", "pull", "--rebase", c.way.Question.Remote}
	}
	return nil
}

// command completes a mend that is carried out by a deed, and by a command just as well.
func (c *checker) command(mend Mend, deed Deed, changes string, words ...string) Mend {
	deed.Host, deed.HostName = c.way.Question.Host, c.address.Host
	mend.Command, mend.Deed, mend.Automatic = words, deed, true
	if changes != "" {
		mend.Changes = []string{changes}
	}
	return mend
}

// ourSettings is the file of ours as people know it.
func (c *checker) ourSettings() string { return c.station.Tilde(hosts.OurFile(c.station)) }

// keyMends: a key can be made at once, whatever became of the agent.
func (c *checker) keyMends(mend Mend, crux *Crux) []Mend {
	make := c.makeMend("Make a key for " + c.way.Question.Host + ".")
	if crux.Code == "agent-unreachable" {
		return []Mend{mend, make}
	}
	return []Mend{make}
}

// makeMend: only a described host has settings that can be made to use the new key.
func (c *checker) makeMend(summary string) Mend {
	host := c.way.Question.Host
	mend := Mend{Summary: summary, By: You}
	if c.host == nil {
		mend.Command = []string{program, "key", "new", "id_ed25519"} // a name under which ssh looks by itself
		return mend
	}
	return c.command(mend, Deed{Do: MakeKey}, "a new pair in "+c.station.Tilde(c.station.SSHDir())+", "+c.ourSettings(),
		program, "key", "new", "--host", host)
}

// lockedMends: into the holder, or the agent that the person's settings name. Where that one
// does not answer, only a terminal helps.
func (c *checker) lockedMends(terminal Mend, crux *Crux) []Mend {
	if c.passage.AgentErr != nil && c.passage.Client.Origin("identityagent").File != "" {
		return []Mend{terminal}
	}
	load := Mend{Summary: "Unlock it once, and let it be held unlocked for a working day.", By: You}
	name := crux.key
	if filepath.Dir(name) == c.station.SSHDir() {
		name = filepath.Base(name)
	}
	command := []string{program, "key", "load", name, "--for", "8h"}
	if c.host == nil {
		command = append(command, "--host", c.address.Host)
	}
	return []Mend{c.command(load, Deed{Do: LoadKey, Key: crux.key}, "which agent ssh asks for "+c.way.Question.Host+", and what it holds", command...), terminal}
}

// trust: by a command, unless settings name no file in which a host key could be stored.
func (c *checker) trust(mend Mend) Mend {
	if len(c.passage.Client.KnownHosts) == 0 {
		return mend
	}
	return c.command(mend, Deed{Do: TrustHost}, "the host keys in "+c.station.Tilde(c.passage.Client.KnownHosts[0]),
		program, "host", "trust", c.way.Question.Host)
}

// trustMend: automatic only when the host publishes a key that it has proved to have.
func (c *checker) trustMend(mend Mend, crux *Crux) Mend {
	if crux.vouched {
		return c.trust(mend)
	}
	name := c.way.Question.Host
	if client := c.passage.Client; c.host == nil && client.Port != 22 {
		name = client.HostName + ":" + strconv.Itoa(client.Port)
	}
	return Mend{
		Summary: "Ask whoever runs the host for the fingerprint of its key, by another way than this connection, and give it to Unicrux.",
		Command: []string{program, "host", "trust", name, "--fingerprint", "FINGERPRINT"}, By: You}
}

// registerMend: by the host's interface where it has one, else by hand.
func (c *checker) registerMend(mend Mend) Mend {
	host := c.way.Question.Host
	key, found := c.worthyKey()
	if !found && c.host != nil {
		return c.makeMend("The keys that were offered are weak by today's standards. Make a better one for " + host + ".")
	}
	name := key.Name
	if key.Path != "" && filepath.Dir(key.Path) != c.station.SSHDir() {
		name = key.Path
	}
	switch {
	case c.host == nil:
		return Mend{Summary: "Give the host the public line of the key, on its page or by whoever runs it. This prints the line and nothing else.",
			Command: []string{program, "key", "show", name, "--line"}, By: You}
	case !c.host.Can("add-key"):
		mend.Command = []string{program, "key", "register", name, host, "--by-hand"}
		return mend
	case key.Path == "": // only in the agent: its file is not ours to find
		return mend
	}
	return c.command(mend, Deed{Do: RegisterKey, Key: key.Path}, "the keys that "+host+" knows, "+c.ourSettings(),
		program, "key", "register", name, host)
}

// worthyKey is the key to register: the first that was offered and is not weak. On a host
// that is not described, where a person does it, a weak one is better than none.
func (c *checker) worthyKey() (key sshway.Key, found bool) {
	keys := c.offered()
	for _, key := range keys {
		if !sshkey.IsWeak(key.Public) {
			return key, true
		}
	}
	if len(keys) > 0 {
		return keys[0], false
	}
	return sshway.Key{}, false
}

func (c *checker) rewritePublic(mend Mend) Mend {
	for _, key := range c.passage.Keys {
		if key.Pair != nil && key.Pair.PublicBad != nil && key.Pair.Public != nil {
			return c.command(mend, Deed{Do: WritePublic, Key: key.Path}, c.station.Tilde(key.Path)+".pub", c.again()...)
		}
	}
	return mend
}

// again is the command that applies a mend which has no command of its own.
func (c *checker) again() []string {
	words := []string{program, "check", "--mend"}
	if c.way.Question.Purpose == Push {
		words = append(words, "--for", "push")
	}
	if words = append(words, c.request.Argument); c.alone {
		words = append(words, "--by", "https")
	}
	return words
}

// urlMend: a guess is not to be acted on unasked.
func (c *checker) urlMend(mend Mend, crux *Crux, url string) Mend {
	if mend = c.useURL(mend, url); crux.Code == "name-unknown" {
		mend.Summary += " It looks like " + c.likelyName() + "."
	}
	return mend
}

// useURL: a remote's URL can be set; one that was given has to be given anew. Nothing of that is done
// by itself where it names another host than the one that was asked for.
func (c *checker) useURL(mend Mend, url string) Mend {
	deed := Deed{Do: UseURL, URL: url}
	switch remote := c.way.Question.Remote; {
	case !c.sameHostIn(url):
		if deed.OtherHost = urlHost(url); remote != "" && c.hg == nil {
			mend.Command = []string{"git", "remote", "set-url", remote, url}
		} else if remote == "" {
			mend.Deed = deed
		}
	case remote != "" && c.hg != nil: // hg has no command for it
		mend.Summary += " Set " + remote + " to " + url + " under [paths] in .hg/hgrc."
	case remote != "":
		deed.Do, deed.Remote = SetRemote, remote
		mend = c.command(mend, deed, "the URL of "+remote+" in this repository", "git", "remote", "set-url", remote, url)
	default:
		mend.Deed = deed
	}
	return mend
}

// sameHostIn tells whether a URL names the host that was asked for.
func (c *checker) sameHostIn(url string) bool {
	return allow.SameHost(urlHost(url), c.address.Host)
}

// urlHost is the host that a clone URL names; empty where it names none.
func urlHost(url string) string {
	a, err := address.Parse(url)
	if err != nil {
		return ""
	}
	return a.Host
}

// fittingKey finds the key that would serve: one that the host knows, or the private half
// of the public one that settings name.
func (c *checker) fittingKey(crux *Crux) string {
	if crux.key != "" && crux.Code != "passphrase-wrong" && crux.Code != "agent-refused" {
		return crux.key
	}
	if private, found := strings.CutSuffix(crux.path, ".pub"); found && crux.Code == "key-file-public" {
		if _, err := sshkey.Load(private); err == nil {
			return private
		}
	}
	return ""
}

func (c *checker) useKey(mend Mend, path string) Mend {
	mend.Summary = fmt.Sprintf("Make the settings for %s use %s.", c.way.Question.Host, c.station.Tilde(path))
	return c.command(mend, Deed{Do: UseKey, Key: path}, c.ourSettings(), program, "host", "set", c.way.Question.Host, "key="+c.station.Tilde(path))
}

// strayed returns what our settings for a described host would have to be when they lead
// elsewhere than its description.
func (c *checker) strayed(crux *Crux) []sshconfig.Setting {
	if c.host == nil || !c.host.HasSSH() || crux.Stage != Reach || c.passage == nil {
		return nil
	}
	wanted := c.host.HostName()
	if c.host.SSH.Address != "" {
		wanted = c.host.SSH.Address
	}
	client := c.passage.Client
	if client.Port == c.host.Port() && allow.SameHost(client.HostName, wanted) {
		return nil
	}
	if _, err := os.Stat(hosts.OurFile(c.station)); err != nil {
		return nil
	}
	return []sshconfig.Setting{{Keyword: "HostName", Args: []string{wanted}}, {Keyword: "Port", Args: []string{strconv.Itoa(c.host.Port())}}}
}

func (c *checker) settleMend(settings []sshconfig.Setting) Mend {
	host := c.way.Question.Host
	mend := Mend{Summary: "The settings lead elsewhere than the description of " + host + ". Make them lead where it says.", By: You}
	return c.command(mend, Deed{Do: SettleHost, Settings: settings}, c.ourSettings(),
		program, "host", "set", host, "address="+settings[0].Args[0], "port="+settings[1].Args[0])
}

// fill puts the question's own words into a mend.
func (c *checker) fill(words string, crux *Crux) string {
	account := c.way.Account
	if account == "" {
		account = "your account"
	}
	url := c.betterURL(crux)
	if url == "" {
		url = "the one that the host's page calls a clone URL"
	}
	return strings.NewReplacer("HOST", c.way.Question.Host, "REPO", c.way.Question.Repo, "ACCOUNT", account, ": URL", ": "+url).Replace(words)
}
