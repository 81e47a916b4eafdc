package diagnose

// A Code names a cause. Once released it never changes its meaning.
type Code string

// An entry of the catalogue says what a code means to somebody who never heard of it.
type entry struct {
	stage   StageName // where the way breaks
	summary string    // one sentence
}

// catalogue lists the causes that can be told so far, in the order of the way.
var catalogue = map[Code]entry{
	"url-malformed":   {Address, "This cannot be read as a clone URL."},
	"remote-missing":  {Address, "This repository has no such remote."},
	"repository-none": {Address, "This folder is not inside a repository, so there is no remote to ask about."},

	"program-missing":     {Settings, "A program that is needed is not installed, or not on the path."},
	"git-config-broken":   {Settings, "git refuses its own configuration."},
	"ssh-config-broken":   {Settings, "The ssh client refuses its configuration."},
	"ssh-config-exposed":  {Settings, "The ssh client refuses a settings file that others could have written."},
	"ssh-setting-hinders": {Settings, "A setting for this host switches sign-in by key off."},
	"key-file-missing":    {Settings, "Settings point to a key that is not there."},
	"key-file-public":     {Settings, "Settings point to the public half of a key where the private half is needed."},
	"key-file-exposed":    {Settings, "Others may read the private key, so ssh ignores it."},
	"key-file-unreadable": {Settings, "Settings point to a file that is not a key that ssh reads."},
	"key-none":            {Settings, "There is no key to offer at all."},
	"key-locked":          {Settings, "The host knows the key, but it is locked by a passphrase and nobody can be asked."},
	"passphrase-wrong":    {Settings, "The passphrase does not open the key."},
	"agent-refused":       {Settings, "The agent holds the right key and declines to sign with it."},

	"name-unknown":         {Reach, "The host name does not exist."},
	"network-down":         {Reach, "There is no way out of this workstation: no route, or no name server answers."},
	"port-refused":         {Reach, "Nothing listens on that port of the host."},
	"port-silent":          {Reach, "The host does not answer in time."},
	"not-ssh":              {Reach, "Something else than SSH answers on that port."},
	"connection-closed":    {Reach, "The other end hangs up before signing in."},
	"proxy-command-failed": {Reach, "The command that settings name to connect through fails."},
	"jump-failed":          {Reach, "The way breaks at the jump host."},

	"host-key-unknown":  {Trust, "This is the first contact with the host, and git cannot ask whether its key is the right one."},
	"host-key-changed":  {Trust, "The host has a new key, which it publishes; an older one is stored here."},
	"host-key-wrong":    {Trust, "The host's key is not the one it should be: perhaps somebody stands in between."},
	"host-key-revoked":  {Trust, "The host's key is marked here as revoked."},
	"algorithms-differ": {Trust, "The host and this workstation have no way of encrypting in common."},

	"key-not-registered": {SignIn, "The host knows none of the keys that were offered."},
	"keys-too-many":      {SignIn, "The host hangs up before the right key was tried: too many others come first."},
	"sign-in-other-way":  {SignIn, "The host does not let anybody sign in by key."},
	"second-step-needed": {SignIn, "The host wants a further proof after the key, which git cannot give."},
	"account-blocked":    {SignIn, "The host says that this account may not sign in."},

	"repository-missing": {Repository, "The repository does not exist, or this account may not know that it does."},
	"host-limits":        {Repository, "The host has had too many requests for now."},
	"host-failing":       {Repository, "The host has a fault of its own."},

	"read-only-account": {Permission, "This account may read the repository, not write to it."},
	"repository-frozen": {Permission, "The repository is frozen: nobody may write to it."},

	"key-no-passphrase": {"", "The key has no passphrase: whoever copies the file can sign in as you."},
	"key-weak":          {"", "The key is weak by today's standards."},
}

// Summary is the sentence that tells a newcomer what a code means.
func Summary(code Code) string { return catalogue[code].summary }

// StageOf is the stage at which a code breaks the way; empty for a note.
func StageOf(code Code) StageName { return catalogue[code].stage }

// Known reports whether the catalogue has the code.
func Known(code Code) bool {
	_, found := catalogue[code]
	return found
}
