package causes

import (
	"cmp"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/lazyregexp"
)

// An entry of the catalogue says what a code means to somebody who never heard of it, how it
// is recognised, and what is to be done. In mends HOST, REPO, ACCOUNT and URL stand for those
// of the question.
type entry struct {
	code    Code
	stage   StageName // where the way breaks
	summary string    // one sentence
	by      By        // who can mend it
	mend    string    // what to do, in sentences
	shows   string    // the label of the evidence that proves it
	signs   signs
}

// Signs are what a cause is recognised by besides the settings that it is found in. Forms are
// RE2, in which case makes no difference; "." stops at the end of a line.
type signs struct {
	words  []string // what hosts of any kind say, where no description says more
	shown  []sign   // what git, ssh, hg and their libraries print
	unless string   // a form that speaks against all of shown
	tell   string   // what would tell the cause from its rivals, in sentences
}

// A sign is a form, and how likely it is that a text that has it was made by this cause: what
// is left to 1 belongs to its rivals.
type sign struct {
	form   string
	weight float64
}

// catalogue lists the causes that can be told so far, in the order of the way: of two that
// explain the same break the one that stands earlier here is the crux.
var catalogue = slices.Concat(addressCauses, settingsCauses, reachCauses, trustCauses, signInCauses, repositoryCauses,
	permissionCauses, otherCauses)

// notes are what a code means that does not stop the way.
var notes = []struct {
	code    Code
	summary string
}{
	{TokenEndsSoon, "The token expires within two weeks. From then on the host will reject it."},
	{URLSecret, "The URL contains a secret, where others can read it."},
	{KeyNoPassphrase, "The key has no passphrase: whoever copies the file can sign in as you."},
	{PassphraseAsked, "The key is in no agent, so git will ask for its passphrase each time."},
	{WayUnprotected, "This connection is not encrypted: others on the network can read and change its data."},
	{
		AddressSilent,
		"One of the host's IPs does not answer, so each connection waits for it before trying another.",
	},
	{HostKeyUnpublished, "The stored key of the host is not one of those in its description."},
	{
		SettingsUnused,
		"Some settings for this host have no effect, because others override them. To see them: unicrux host show HOST --settings.",
	},
	{TokenNeverEnds, "The token never expires: whoever gets it can use it without limit."},
	{TokenTooWide, "The token has more permissions than it needs."},
	{
		SecretInPlainFile,
		"The secret is in a plain file, where others can read it. To move it into the chest: unicrux chest adopt.",
	},
	{KeyOld, "The key has been in use for more than five years. To replace it: unicrux key renew."},
	{KeyCommentEmpty, "The public key has no comment, so a host's web page cannot show which one it is."},
	{AgentForwarded, "ssh forwards your agent to this host: while you are connected, whoever runs it can sign in as you."},
	{AgentForwardedEverywhere,
		"Your ssh config forwards your agent to every host: whoever runs one can sign in as you while you are connected."},
	{KeyWeak, "The key is weak by today's standards."},
	{ProgramMoved,
		"Your settings start Unicrux at a path where it is no longer installed. To correct them: unicrux ready HOST."},
	{WritingUntried, "Reading works. Only a push will show whether you may write."},
	{BranchUnknown, "The branch that is checked out here is not on the host yet: a push creates it there."},
	{
		BranchBehind,
		"The host has commits that are not here yet, and nothing here is new to it: git pull fetches them. Until then it rejects a push.",
	},
}

// NoteSummary is what a code means where it does not stop the way.
func NoteSummary(code Code) string {
	for _, note := range notes {
		if note.code == code {
			return note.summary
		}
	}
	return Summary(code)
}

// Advice is the mend of a code in words that need no place to be filled in; empty for others.
func Advice(code Code) string {
	entry, at := find(code)
	if at < 0 {
		return ""
	}
	return inWords(entry.mend, "", "this account", "")
}

// inCommand is the host of a command in a sentence. Where the host is not known the command keeps the word, as the help
// has it.
var inCommand = lazyregexp.Late(`(unicrux(?: [a-z]+)+ )HOST`)

// inWords puts what is known of a question into a sentence of the catalogue. What is empty is not known, and is said in
// words.
func inWords(words, host, account, url string) string {
	const kept = "\x00"
	if host == "" {
		words = inCommand().ReplaceAllString(words, "${1}"+kept)
	}
	return strings.NewReplacer("HOST", cmp.Or(host, "the host"), "REPO", "the repository", "ACCOUNT", account,
		": URL", ": "+cmp.Or(url, "the one that the host's page calls a clone URL"), kept, "HOST").Replace(words)
}

// Mend says what is to be done about a cause, and who can do it. HOST, REPO, ACCOUNT and URL stand in it for those of
// the question.
func Mend(code Code) (words string, by By) {
	entry, _ := find(code)
	return entry.mend, entry.by
}

// Rank is the place of a cause in the order of the way, or -1 for a code that stops nobody.
func Rank(code Code) int {
	_, at := find(code)
	return at
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

// StageOf is the stage at which a code breaks the way; empty for one that stops nobody.
func StageOf(code Code) StageName {
	entry, _ := find(code)
	return entry.stage
}

// FillHost puts a host's name into the words of the catalogue.
func FillHost(words, host string) string { return strings.ReplaceAll(words, "HOST", host) }
