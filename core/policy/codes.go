package policy

import (
	"slices"
	"sync"
)

// A Code is one thing that can be asked of a machine, a home, a key or a secret. Its name never changes its meaning.
type Code struct {
	Name    string
	Default Rule     // what holds where the policy says nothing of it
	Fields  []string // what a rule may say beside its level
	Means   string   // what was found, as a sentence
	Mend    string   // what the owner does about it: a sentence, or a command; empty where that depends
}

// OfMany tells that only the reports of many machines tell of it.
func (c Code) OfMany() bool {
	return c.Name == MachineSilent || c.Name == ReportOld || c.Name == ReportIncomplete
}

// Further rules than those that say what may be made; see [Codes] for their meaning.
const (
	KeyExposed    = "key-exposed"
	KeyTracked    = "key-tracked"
	KeyMismatched = "key-mismatched"
	KeyUnreadable = "key-unreadable"
	KeyOld        = "key-old"
	KeyOddPlace   = "key-odd-place"
	KeyUnused     = "key-unused"
	KeyCopied     = "key-copied"
	KeyBurned     = "key-burned"

	CertificateEnded     = "certificate-ended"
	CertificateLong      = "certificate-long"
	CertificateAuthority = "certificate-authority-unknown"

	TokenEnded    = "token-ended"
	TokenEndsSoon = "token-ends-soon"
	TokenTooWide  = "token-too-wide"
	TokenIdle     = "token-idle"

	SecretInPlainFile   = "secret-in-plain-file"
	SecretInURL         = "secret-in-url"
	SecretInHeader      = "secret-in-header"
	SecretInEnvironment = "secret-in-environment"
	SecretInHistory     = "secret-in-history"

	SettingsExposed    = "settings-exposed"
	HostUndeclared     = "host-undeclared"
	DescriptionDiffers = "description-differs"
	HostKeyDiffers     = "host-key-differs"
	HostKeyDistrusted  = "host-key-distrusted"
	TrustBlind         = "trust-blind"
	TLSUnchecked       = "tls-unchecked"
	AgentForwarded     = "agent-forwarded"
	HelperPlain        = "helper-plain"

	HomeUnread   = "home-unread"
	HomeOfNobody = "home-of-nobody"
	HomeOwner    = "home-owner"
	HomeTooLarge = "home-too-large"
	FileOdd      = "file-odd"

	MachineSilent    = "machine-silent"
	ReportOld        = "report-old"
	ReportIncomplete = "report-incomplete"

	StateDiffers   = "state-differs"
	PolicyDiffers  = "policy-differs"
	StateOverruled = "state-overruled"
	ExceptionEnded = "exception-ended"
)

// codes are all of them, by what they are about.
var codes = []Code{
	{KeyExposed, Rule{Level: Must}, nil, "Others on this machine can read the private key.",
		"chmod 600 FILE; replace the key, because somebody may have copied it: unicrux key renew"},
	{KeyTracked, Rule{Level: Must}, nil, "A repository holds the private key, and so does every clone of it.",
		"unicrux key renew replaces it; then git rm --cached FILE"},
	{KeyMismatched, Rule{Level: Should}, nil, "The public key file beside the private key belongs to another key.",
		"unicrux key show NAME --line > NAME.pub"},
	{KeyUnreadable, Rule{Level: Tell}, nil, "The private key is damaged, so ssh cannot read it.", ""},
	{KeyWeak, Rule{Level: Must}, []string{"rsa", "kinds"}, "The key is of a type or size that is not strong enough.",
		"unicrux key renew makes a new one, registered wherever the old one is"},
	{KeyNoPassphrase, Rule{Level: Should}, nil, "The key has no passphrase: whoever copies the file can use it.",
		"unicrux key passphrase"},
	{KeyOld, Rule{Level: Off}, []string{"days"}, "The key is older than is allowed.", "unicrux key renew"},
	{KeyOddPlace, Rule{Level: Tell}, nil, "The key is outside ~/.ssh.", ""},
	{KeyUnused, Rule{Level: Off}, nil, "No setting leads to the key, and ssh does not try it by itself.",
		"unicrux key retire"},
	{KeyCopied, Rule{Level: Should}, nil, "The same private key is in several homes.",
		"Each person makes one of their own: unicrux ready"},
	{KeyBurned, Rule{Level: Must}, nil, "The key leaked, as the administrator of this machine says.",
		"unicrux key renew makes a new one, and withdraws this one wherever it is registered"},
	{CertificateEnded, Rule{Level: Tell}, nil, "The certificate has expired.", ""},
	{CertificateLong, Rule{Level: Off}, []string{"days"}, "The certificate is valid for longer than is allowed.", ""},
	{CertificateAuthority, Rule{Level: Off}, []string{"authorities"},
		"An authority signed it that is not on the list.", ""},
	{TokenEnded, Rule{Level: Tell}, nil, "The token has expired.", "unicrux token renew, or unicrux token drop"},
	{TokenEndsSoon, Rule{Level: Should, Days: 14}, []string{"days"}, "The token expires soon.", "unicrux token renew"},
	{TokenNeverEnds, Rule{Level: Should}, nil, "No end of the token is known.", "unicrux token renew"},
	{TokenLongest, Rule{Level: Off}, []string{"days"}, "The token is valid for longer than is allowed.",
		"unicrux token renew"},
	{TokenTooWide, Rule{Level: Off}, []string{"scopes"}, "The token may do more than is allowed.",
		"unicrux token renew"},
	{TokenIdle, Rule{Level: Off}, []string{"days"}, "The token was not seen to work for longer than is allowed.",
		"unicrux token drop"},
	{SecretInPlainFile, Rule{Level: Must}, nil, "A secret is in a plain file.",
		"unicrux chest adopt moves it into the chest"},
	{SecretInURL, Rule{Level: Must}, nil, "A secret is in the URL of a remote.",
		"unicrux chest adopt moves it into the chest"},
	{SecretInHeader, Rule{Level: Should}, nil, "A secret is in a header that git sends.",
		"unicrux chest adopt moves it into the chest"},
	{SecretInEnvironment, Rule{Level: Should}, nil, "A secret is in a file of environment variables.", ""},
	{SecretInHistory, Rule{Level: Off}, nil, "A secret is in the history of a shell.",
		"Revoke it at its host, then delete the line."},
	{ChestPlace, Rule{Level: Off}, []string{"places"}, "The secret is stored elsewhere than is allowed.",
		"unicrux chest move"},
	{SettingsExposed, Rule{Level: Must}, nil,
		"Others on this machine can write the settings that ssh reads, so ssh refuses them.",
		"chmod 600 FILE; look whether each line in it is meant"},
	{HostUndeclared, Rule{Level: Off}, nil, "A key is stored for a host that nobody described.", "unicrux host add"},
	{DescriptionDiffers, Rule{Level: Should}, nil,
		"The person's own description of the host is used, and not the administrator's.", "unicrux host drop"},
	{HostKeyDiffers, Rule{Level: Should}, nil, "Another key is stored for the host than its description publishes.",
		"unicrux check finds out which is right"},
	{HostKeyDistrusted, Rule{Level: Should}, nil,
		"A host key is stored that the administrator of this machine distrusts.",
		"unicrux apply STATE.toml --homes takes the line out"},
	{TrustBlind, Rule{Level: Must}, nil, "ssh accepts whatever host key it is shown.", "Delete the line."},
	{TLSUnchecked, Rule{Level: Must}, nil, "git accepts whatever certificate it is shown.", "Delete the line."},
	{AgentForwarded, Rule{Level: Should}, nil,
		"ssh forwards the agent to every host: whoever runs one can use the keys.",
		"Set it for single hosts, or not at all."},
	{HelperPlain, Rule{Level: Must}, nil, "git writes passwords and tokens into a plain file.",
		"unicrux chest adopt moves them into the chest"},
	{HomeUnread, Rule{Level: Should}, nil, "A home, or something in it, could not be read.", ""},
	{HomeOfNobody, Rule{Level: Tell}, nil, "No account owns the home.", ""},
	{HomeOwner, Rule{Level: Should}, nil, "Another account owns the home than the list of accounts says.", ""},
	{HomeTooLarge, Rule{Level: Tell}, nil, "There is more in it than is looked at.", ""},
	{FileOdd, Rule{Level: Tell}, nil,
		"Where keys and settings belong is something that its owner cannot read as a file.", ""},
	{MachineSilent, Rule{Level: Must}, nil, "A machine that should report did not.", ""},
	{ReportOld, Rule{Level: Should, Days: 7}, []string{"days"}, "A report is older than is allowed.", ""},
	{ReportIncomplete, Rule{Level: Should}, nil, "A report does not cover all homes of its machine.", ""},
	{StateDiffers, Rule{Level: Should}, nil, "Something of the state that was applied is not as it was left.",
		"unicrux apply STATE.toml --dry-run shows what, and without --dry-run mends it"},
	{PolicyDiffers, Rule{Level: Must}, nil, "The policy is not the one that was applied.",
		"unicrux apply STATE.toml --dry-run shows what, and without --dry-run mends it"},
	{StateOverruled, Rule{Level: Should}, nil, "Lines of others win over the state that was applied.",
		"Delete those lines, or take the setting out of the state."},
	{ExceptionEnded, Rule{Level: Should}, nil, "An exception of the policy is over.", ""},
}

// Codes lists all rules, by what they are about.
func Codes() []Code { return slices.Clone(codes) }

// Of is the code of a name.
func Of(name string) (Code, bool) {
	c, known := byName()[name]
	return c, known
}

// byName has the codes by their names.
var byName = sync.OnceValue(func() map[string]Code {
	all := map[string]Code{}
	for _, c := range codes {
		all[c.Name] = c
	}
	return all
})

// Rule is what holds for a code, whoever asks and whatever is excepted: the policy's, or what holds without one.
func (p Policy) Rule(code string) Rule {
	rule, set := p.Rules[code]
	c, _ := Of(code)
	if !set {
		return c.Default
	}
	if rule.Days == 0 {
		rule.Days = c.Default.Days
	}
	return rule
}
