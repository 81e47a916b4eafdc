package diagnose

import (
	"slices"
	"strings"
)

// A Code names a cause. Once released it never changes its meaning.
type Code string

// An entry of the catalogue says what a code means to somebody who never heard of it, and
// what is to be done. In mends HOST, REPO, ACCOUNT and URL stand for those of the question.
type entry struct {
	code    Code
	stage   StageName // where the way breaks; empty for a note
	summary string    // one sentence
	by      By        // who can mend it
	mend    string    // what to do, in sentences
	shows   string    // the label of the evidence that proves it
}

// catalogue lists the causes that can be told so far, in the order of the way: of two that
// explain the same break the one that stands earlier here is the crux.
var catalogue = []entry{
	{"url-malformed", Address, "This cannot be read as a clone URL.", You,
		"Copy the clone URL again. It looks like git@NAME:GROUP/PROJECT.git, or ssh://git@NAME/GROUP/PROJECT.", "wrong"},
	{"url-is-a-page", Address, "This is the address of a web page, not of a repository.", You,
		"Use the clone URL: URL", "page"},
	{"url-port-in-short-form", Address, "The number after the colon is read as part of the path, not as a port.", You,
		"Write the URL in the form that has a place for a port: URL", "path"},
	{"url-transport-refused", Address, "The host does not take this unprotected way of connecting.", You,
		"Use the clone URL over SSH: URL", "scheme"},
	{"remote-missing", Address, "This repository has no such remote.", You,
		"Name a remote that is there, or add this one with the clone URL: git remote add NAME URL.", "asked for"},
	{"repository-none", Address, "This folder is not inside a repository, so there is no remote to ask about.", You,
		"Go into the folder of a repository, or give a clone URL.", "folder"},
	{"url-user-missing", Address, "The URL names no user, so your login name here is sent, which the host does not know.", You,
		"Put the host's user into the URL: URL", "sent"},

	{"program-missing", Settings, "A program that is needed is not installed, or not on the path.", You,
		"Install it with this system's package manager, then try again.", "missing"},
	{"other-user", Settings, "The ssh client reads the settings of another home folder than git does.", You,
		"Tell git to start ssh with the settings of this home.", "ssh reads"},
	{"git-config-broken", Settings, "git refuses its own configuration.", You,
		"Open the file that git names and correct the line.", "git says"},
	{"ssh-config-broken", Settings, "The ssh client refuses its configuration.", You,
		"Open the file at that line and correct it, or put a # before it.", "where"},
	{"ssh-config-exposed", Settings, "The ssh client refuses a settings file that others could have written.", You,
		"Let nobody else write to the file: chmod go-w FILE. If it is not yours, make it yours.", "file"},
	{"ssh-setting-hinders", Settings, "A setting for this host switches sign-in by key off.", You,
		"Take the setting out, or set PubkeyAuthentication yes for this host before it.", "setting"},
	{"author-missing", Settings, "git does not know the name or the e-mail address for your commits, so it refuses to commit.", You,
		"Tell git once: git config --global user.name NAME, and git config --global user.email ADDRESS.", "git says"},
	{"key-file-missing", Settings, "Settings point to a key that is not there.", You,
		"Put the key back where the settings point, or make the settings point to where it is.", "file"},
	{"key-file-public", Settings, "Settings point to the public half of a key where the private half is needed.", You,
		"Make IdentityFile name the private half: the same name without .pub.", "file"},
	{"key-file-exposed", Settings, "Others may read the private key, so ssh ignores it.", You,
		"Let nobody else read it.", "file"},
	{"key-file-unreadable", Settings, "Settings point to a file that is not a key that ssh reads.", You,
		"Get the file again from where it was copied, whole and unchanged, or make a new key.", "file"},
	{"key-pair-mismatch", Settings, "The public file beside the private key belongs to another key, and ssh offers that one.", You,
		"Write the public half of this very key beside it.", "file"},
	{"key-elsewhere", Settings, "A key that the host knows is here, but it lies where no setting points.", You,
		"Make the settings for HOST point to it.", "found"},
	{"agent-unreachable", Settings, "An agent is named that should hold the keys, and it does not answer.", You,
		"Start the agent again and load the key, or take the agent out of the settings.", "agent"},
	{"key-none", Settings, "There is no key to offer at all.", You,
		"Make a key for HOST.", "looked in"},
	{"key-locked", Settings, "The key is locked by a passphrase, and nobody can be asked for it.", You,
		"Run git in a terminal, where ssh can ask for the passphrase.", "key"},
	{"key-in-device", Settings, "The private half of the key is in a device, which only ssh itself can ask.", You,
		"Plug the device in, run git in a terminal, and touch the device when it blinks.", "key"},
	{"passphrase-wrong", Settings, "The passphrase does not open the key.", You,
		"Try again. A forgotten passphrase cannot be found out: then make a new key and register it.", "key"},
	{"agent-refused", Settings, "The agent holds the right key and declines to sign with it.", You,
		"Look whether the agent asks for a confirmation somewhere, or load the key again.", "agent"},

	{"name-unknown", Reach, "The host name does not exist.", You,
		"Check the spelling of HOST.", "host"},
	{"network-down", Reach, "There is no way out of this workstation: no route, or no name server answers.", You,
		"Connect this workstation to the network, and to the VPN if the host is inside one.", "host"},
	{"ssh-port-blocked", Reach, "The host's usual port for SSH is closed on this network, and its other port is open.", You,
		"Make the settings for HOST use its other port.", "port"},
	{"port-refused", Reach, "Nothing listens on that port of the host.", Host,
		"Check the port. If it is right, the host's SSH service is down: ask whoever runs HOST.", "port"},
	{"port-silent", Reach, "The host does not answer in time.", Administrator,
		"A firewall may swallow the connection, or the host is down. Ask whoever runs this network or HOST.", "port"},
	{"not-ssh", Reach, "Something else than SSH answers on that port.", You,
		"Check the port: SSH is most often on 22.", "port"},
	{"connection-closed", Reach, "The other end hangs up before signing in.", Host,
		"Wait a minute and try again. If it stays so, ask whoever runs HOST whether this workstation's address is blocked.", "host"},
	{"proxy-command-failed", Reach, "The command that settings name to connect through fails.", You,
		"Try the command by itself and mend what it complains about.", "through"},
	{"jump-failed", Reach, "The way breaks at the jump host.", You,
		"Check the way to the jump host by itself: unicrux check with its name.", "through"},
	{"algorithms-differ", Trust, "The host and this workstation have no way of encrypting in common.", Host,
		"Bring the older of the two up to date: this workstation's ssh, or the host.", "it says"},

	{"host-key-unknown", Trust, "This is the first contact with the host, and git cannot ask whether its key is the right one.", You,
		"Store the host's key, which is the one it publishes.", "offered"},
	{"host-key-changed", Trust, "The host has a new key, which it publishes; an older one is stored here.", You,
		"Store the key that the host publishes now, in place of the old one.", "stored"},
	{"host-key-wrong", Trust, "The host's key is not the one it should be: perhaps somebody stands in between.", Host,
		"Do not connect. Ask whoever runs HOST, by another way, whether its key has changed and what its fingerprint is now.", "offered"},
	{"host-key-revoked", Trust, "The host's key is marked here as revoked.", Host,
		"Do not connect. The key was marked as stolen or withdrawn: ask whoever runs HOST for the new one.", "revoked in"},

	{"keys-too-many", SignIn, "The host hangs up before the right key was tried: too many others come first.", You,
		"Let the settings for HOST name the one key.", "not tried"},
	{"key-not-offered", SignIn, "The right key is here, and settings keep it back.", You,
		"Make the settings for HOST use it.", "kept back"},
	{"key-not-registered", SignIn, "The host knows none of the keys that were offered.", You,
		"Register the key with HOST.", "offered"},
	{"sign-in-other-way", SignIn, "The host does not let anybody sign in by key.", Host,
		"Use HTTPS with a token, or ask whoever runs HOST to allow sign-in by key.", "host offers"},
	{"second-step-needed", SignIn, "The host wants a further proof after the key, which git cannot give.", Host,
		"Ask whoever runs HOST how git is meant to sign in.", "host wants"},
	{"key-other-account", SignIn, "The key opens another account than the one that is needed.", You,
		"Use a key of the other account.", "signed in as"},
	{"account-blocked", SignIn, "The host says that this account may not sign in.", Host,
		"Ask whoever runs HOST why, with the host's words above.", "host says"},

	{"repository-missing", Repository, "The repository does not exist, or this account may not know that it does.", Administrator,
		"Check the spelling of REPO. If it is right, ask its owner to let ACCOUNT see it.", "asked for"},
	{"repository-not-git", Repository, "Something is there, but it is not a repository.", Administrator,
		"Check the path. If it is right, ask whoever runs HOST what REPO is.", "asked for"},
	{"host-limits", Repository, "The host has had too many requests for now.", You,
		"Wait, and try again later.", "host says"},
	{"host-failing", Repository, "The host has a fault of its own.", Host,
		"Try again later, and tell whoever runs HOST if it stays so.", "asked for"},

	{"read-only-account", Permission, "This account may read the repository, not write to it.", Administrator,
		"Ask the owner of REPO on HOST to let ACCOUNT write to it. A new key would change nothing.", "reading"},
	{"read-only-key", Permission, "The key was registered for reading only.", You,
		"Withdraw the key and register it for writing, or use another key.", "host says"},
	{"repository-frozen", Permission, "The repository is frozen: nobody may write to it.", Administrator,
		"Nobody can push to it while it is frozen. Ask the owner of REPO on HOST whether it should be.", "host says"},

	{code: "key-no-passphrase", summary: "The key has no passphrase: whoever copies the file can sign in as you."},
	{code: "passphrase-asked", summary: "No agent holds the key, so git will ask for its passphrase each time."},
	{code: "key-weak", summary: "The key is weak by today's standards."},
}

// Advice is the mend of a code in words that need no place to be filled in; empty for others.
func Advice(code Code) string {
	entry, at := find(code)
	if at < 0 {
		return ""
	}
	return strings.NewReplacer("HOST", "the host", "REPO", "the repository", "ACCOUNT", "this account").Replace(entry.mend)
}

// find returns the entry of a code and its place in the catalogue, or -1.
func find(code Code) (entry, int) {
	i := slices.IndexFunc(catalogue, func(e entry) bool { return e.code == code })
	if i < 0 {
		return entry{}, i
	}
	return catalogue[i], i
}

// Codes lists every code of the catalogue, in its order.
func Codes() []Code {
	codes := make([]Code, len(catalogue))
	for i, entry := range catalogue {
		codes[i] = entry.code
	}
	return codes
}

// Summary is the sentence that tells a newcomer what a code means.
func Summary(code Code) string {
	entry, _ := find(code)
	return entry.summary
}

// StageOf is the stage at which a code breaks the way; empty for a note.
func StageOf(code Code) StageName {
	entry, _ := find(code)
	return entry.stage
}

// A suspicion is a cause that was seen before the way broke, and that explains a break at
// some stages.
type suspicion struct {
	crux     *Crux
	from, to StageName
}

// first picks the crux of a break: of all causes that explain it, the one that stands first
// in the catalogue, which is the first on the way.
func first(broke *Crux, at StageName, suspicions []suspicion) *Crux {
	best := broke
	for _, s := range suspicions {
		if stage := slices.Index(Stages, at); stage < slices.Index(Stages, s.from) || stage > slices.Index(Stages, s.to) {
			continue
		}
		_, mine := find(s.crux.Code)
		if _, its := find(best.Code); mine < its {
			best = s.crux
		}
	}
	return best
}
