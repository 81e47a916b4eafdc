package diagnose

import (
	"fmt"
	"strconv"
	"strings"
)

// program is how our own commands begin.
const program = "unicrux"

// mends lists what removes the crux, the best first.
func (c *checker) mends(crux *Crux) []Mend {
	if list, found := c.ourMends(crux); found {
		return list
	}
	if text, found := instructions[crux.Code]; found {
		return []Mend{{Summary: c.fill(text.words), By: text.by}}
	}
	return nil
}

// ourMends are those that a command of ours carries out.
func (c *checker) ourMends(crux *Crux) ([]Mend, bool) {
	host := c.way.Question.Host
	switch crux.Code {
	case "key-none":
		if c.host == nil {
			return []Mend{{Summary: "Make a key; it gets the name under which ssh looks for one by itself.", By: You,
				Command: []string{program, "key", "new", "id_ed25519"}}}, true
		}
		return []Mend{{Summary: "Make a key for " + host + ".", By: You, Automatic: true,
			Command: []string{program, "key", "new", "--host", host}}}, true
	case "host-key-unknown":
		return c.trustMends(crux), true
	case "host-key-changed":
		return []Mend{{Summary: "Store the key that the host publishes now, in place of the old one.", By: You, Automatic: true,
			Command: []string{program, "host", "trust", host}}}, true
	case "key-not-registered":
		return c.registerMends(), true
	case "key-locked":
		return c.lockedMends(crux), true
	}
	return nil, false
}

// trustMends: automatic only when the host publishes the very key that it offers.
func (c *checker) trustMends(crux *Crux) []Mend {
	for _, evidence := range crux.Evidence {
		if evidence.Label == "published" && evidence.Text == samekey {
			return []Mend{{Summary: "Store the host's key, which is the one it publishes.", By: You, Automatic: true,
				Command: []string{program, "host", "trust", c.way.Question.Host}}}
		}
	}
	name := c.way.Question.Host
	if client := c.passage.Client; c.host == nil && client.Port != 22 {
		name = client.HostName + ":" + strconv.Itoa(client.Port)
	}
	return []Mend{{
		Summary: "Ask whoever runs the host for the fingerprint of its key, by another way than this connection, and give it to Unicrux.",
		Command: []string{program, "host", "trust", name, "--fingerprint", "FINGERPRINT"}, By: You}}
}

// lockedMends: into the agent where ssh would ask one, else only a terminal helps.
func (c *checker) lockedMends(crux *Crux) []Mend {
	name, _, _ := strings.Cut(crux.Evidence[0].Text, " ")
	terminal := Mend{Summary: "Run git in a terminal, where ssh can ask for the passphrase.", By: You}
	if c.passage.Client.Agent == "" || c.passage.AgentErr != nil {
		return []Mend{terminal}
	}
	return []Mend{{Summary: "Unlock it once and let the agent hold it for a working day.", By: You, Automatic: true,
		Command: []string{program, "key", "load", name, "--for", "8h"}}, terminal}
}

// registerMends: the host's interface where it has one, else the page.
func (c *checker) registerMends() []Mend {
	key := ""
	if keys := c.offered(); len(keys) > 0 {
		key = keys[0].Name
	}
	host := c.way.Question.Host
	if c.host != nil && c.host.Can("add-key") {
		return []Mend{{Summary: "Register the key with " + host + ".", By: You, Automatic: true,
			Command: []string{program, "key", "register", key, host}}}
	}
	page := "the page where it takes keys"
	if c.host != nil && c.host.Interface.Keys != "" {
		page = c.host.Interface.Keys
	}
	return []Mend{{Summary: fmt.Sprintf("Give the host the public line of the key, at %s. This prints the line and nothing else.", page), By: You,
		Command: []string{program, "key", "show", key, "--line"}}}
}

// An instruction is a mend that is told in words. HOST, REPO, ACCOUNT and USER stand for
// those of the question.
type instruction struct {
	by    By
	words string
}

var instructions = map[Code]instruction{
	"url-malformed":   {You, "Copy the clone URL again. It looks like git@HOST-NAME:GROUP/REPOSITORY.git, or ssh://git@HOST-NAME/GROUP/REPOSITORY."},
	"remote-missing":  {You, "Name a remote that is there, or add this one with the clone URL: git remote add NAME URL."},
	"repository-none": {You, "Go into the folder of a repository, or give a clone URL."},

	"program-missing":     {You, "Install it with this system's package manager, then try again."},
	"git-config-broken":   {You, "Open the file that git names and correct the line."},
	"ssh-config-broken":   {You, "Open the file at that line and correct it, or put a # before it."},
	"ssh-config-exposed":  {You, "Let nobody else write to the file: chmod go-w FILE. If it is not yours, make it yours."},
	"ssh-setting-hinders": {You, "Take the setting out, or set PubkeyAuthentication yes for this host before it."},
	"key-file-missing":    {You, "Put the key back where the settings point, or make the settings point to where it is."},
	"key-file-public":     {You, "Make IdentityFile name the private half: the same name without .pub."},
	"key-file-exposed":    {You, "Let nobody else read it: chmod 600 FILE."},
	"key-file-unreadable": {You, "Get the file again from where it was copied, whole and unchanged, or make a new key."},
	"passphrase-wrong":    {You, "Try again. Nobody can tell a forgotten passphrase: then make a new key and register it."},
	"agent-refused":       {You, "Look whether the agent asks for a confirmation somewhere, or load the key again."},

	"name-unknown":         {You, "Check the spelling of HOST."},
	"network-down":         {You, "Connect this workstation to the network, and to the VPN if the host is inside one."},
	"port-refused":         {Host, "Check the port. If it is right, the host's SSH service is down: ask whoever runs HOST."},
	"port-silent":          {Administrator, "A firewall may swallow the connection, or the host is down. Ask whoever runs this network or HOST."},
	"not-ssh":              {You, "Check the port: SSH is most often on 22."},
	"connection-closed":    {Host, "Wait a minute and try again. If it stays so, ask whoever runs HOST whether this workstation's address is blocked."},
	"proxy-command-failed": {You, "Try the command by itself and mend what it complains about."},
	"jump-failed":          {You, "Check the way to the jump host by itself: unicrux check with its name."},
	"algorithms-differ":    {Host, "Bring the older of the two up to date: this workstation's ssh, or the host."},

	"host-key-wrong":   {Host, "Do not connect. Ask whoever runs HOST, by another way, whether its key has changed and what its fingerprint is now."},
	"host-key-revoked": {Host, "Do not connect. The key was marked as stolen or withdrawn: ask whoever runs HOST for the new one."},

	"keys-too-many":      {You, "Let settings name the one key for HOST, with IdentitiesOnly yes."},
	"sign-in-other-way":  {Host, "Use HTTPS with a token, or ask whoever runs HOST to allow sign-in by key."},
	"second-step-needed": {Host, "Ask whoever runs HOST how git is meant to sign in."},
	"account-blocked":    {Host, "Ask whoever runs HOST why, with the host's words above."},

	"repository-missing": {Administrator, "Check the spelling of REPO. If it is right, ask its owner to let ACCOUNT see it."},
	"host-limits":        {You, "Wait, and try again later."},
	"host-failing":       {Host, "Try again later, and tell whoever runs HOST if it stays so."},
	"read-only-account":  {Administrator, "Ask the owner of REPO on HOST to let ACCOUNT write to it. A new key would change nothing."},
	"repository-frozen":  {Administrator, "Nobody can push to it while it is frozen. Ask the owner of REPO on HOST whether it should be."},
}

// fill puts the question's own words into an instruction.
func (c *checker) fill(words string) string {
	account := c.way.Account
	if account == "" {
		account = "your account"
	}
	return strings.NewReplacer("HOST-NAME", "HOST-NAME", "HOST", c.way.Question.Host,
		"GROUP/REPOSITORY", "GROUP/REPOSITORY", "REPO", c.way.Question.Repo, "ACCOUNT", account).Replace(words)
}
