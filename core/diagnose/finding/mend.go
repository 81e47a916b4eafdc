package finding

import (
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/sshconfig"
)

// A Mend removes a crux.
type Mend struct {
	Summary   string   // a sentence
	Command   []string // the command that does it; nil when there is none
	By        causes.By
	Automatic bool     // can be done without asking anybody anything but a secret
	Changes   []string // what it changes, here and at the host, in words
	Action    Action   // what carries it out; the zero Action for none
}

// An Act is what an action does.
type Act string

// The acts that package ready carries out.
const (
	MakeKey     Act = "make a key"           // for Host
	TrustHost   Act = "trust a host"         // Host
	CompareHost Act = "compare a host's key" // of Host, with what a person is told by another way
	RegisterKey Act = "register a key"       // Key with Host
	PasteKey    Act = "paste a key"          // Key, on Host's web page, by a person
	UseKey      Act = "use a key"            // Key in the settings for Host
	LoadKey     Act = "load a key"           // Key into the agent
	SettleHost  Act = "settle a host"        // Settings for Host
	Restrict    Act = "restrict a file"      // File to its owner
	WritePublic Act = "write a public key"   // of Key
	SetRemote   Act = "set a remote"         // Remote to URL
	UseURL      Act = "use a URL"            // URL in place of the one that was given
	NameAuthor  Act = "name the author"      // of commits, in git's configuration, as a person says
	NameSSH     Act = "name the ssh config"  // File, in git's configuration
	SettleWeb   Act = "settle https"         // for Host, as its description says
	AskFirst    Act = "ask the chest alone"  // for Host, whatever other helpers there are
	GetToken    Act = "get a token"          // for Host and Purpose, into the chest
	SignIn      Act = "sign in"              // to Host in a browser, for Purpose; what comes of it into the chest
	TrustCA     Act = "trust an authority"   // Authority, for Host over HTTPS, after a person has compared it
	OpenChest   Act = "open the chest"       // in the holder
	Repoint     Act = "repoint the settings" // that start this program, to where it is
)

// An Action is a mend in the form in which it is carried out.
type Action struct {
	Do          Act
	Host        string // the host as people call it
	HostName    string // the name in clone URLs
	Key         string // path of a private file
	File        string
	Remote, URL string
	OtherHost   string // that URL names, where it is not the one that was asked for; empty where it is
	Purpose     Purpose
	Settings    []sshconfig.Setting
	Authority   []byte // a certificate (DER) that vouches for the host
}
