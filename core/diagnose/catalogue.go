package diagnose

import (
	"slices"
	"strings"
)

// A Code names a cause. Once released it never changes its meaning.
type Code string

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
	met    []error  // what package wire met
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

// Beyond is the place of causes that are no matter of the way at all.
const Beyond StageName = "beyond"

// noteSummaries are what a code means that does not stop the way.
var noteSummaries = []struct {
	code    Code
	summary string
}{
	{"token-ends-soon", "The token ends within two weeks, and pushes will be refused from then on."},
	{"url-secret", "A secret stands in the URL, where others can read it."},
	{"key-no-passphrase", "The key has no passphrase: whoever copies the file can sign in as you."},
	{"passphrase-asked", "No agent holds the key, so git will ask for its passphrase each time."},
	{"way-unprotected", "Nothing protects this way: whoever sits on the network can read and change what passes."},
	{"address-silent", "One of the host's addresses does not answer, so each connection waits for it before it takes another."},
	{"host-key-unpublished", "The host's key is stored here, and is not one of those that its description names."},
	{"settings-unused", "Settings that were written for this host are not used, since others win. To see them: unicrux host show HOST --settings."},
	{"token-never-ends", "The token has no end: whoever gets it may use it for ever."},
	{"token-too-wide", "The token may do more than what it is for."},
	{"secret-in-plain-file", "The secret lies in a plain file, where others can read it. The chest takes it: unicrux chest adopt."},
	{"key-old", "The key has been in use for more than five years. Another one: unicrux key renew."},
	{"key-comment-empty", "The key's public half has no comment, so a host's page cannot tell it from others."},
	{"agent-forwarded", "Your agent is lent to this host: while you are there, whoever runs it can sign in as you."},
	{"agent-forwarded-everywhere", "Your ssh config forwards your agent to every host: whoever runs one can sign in as you while you are connected."},
	{"key-weak", "The key is weak by today's standards."},
	{"writing-untried", "Reading works. Whether the host's files let you write, only a push tells."},
	{"branch-unknown", "The branch that is checked out here is not at the host yet: a push makes it there."},
	{"branch-behind", "The host has commits that are not here yet, and nothing here is new to it: git pull takes them. Until then it refuses a push."},
}

func noteSummary(code Code) string {
	for _, note := range noteSummaries {
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
	only     []Code // of those it explains; empty for all
}

// first picks the crux of a break: of all causes that explain it, the one that stands first
// in the catalogue, which is the first on the way.
func first(broke *Crux, at StageName, suspicions []suspicion) *Crux {
	best := broke
	for _, s := range suspicions {
		if stage := slices.Index(Stages, at); stage < slices.Index(Stages, s.from) || stage > slices.Index(Stages, s.to) {
			continue
		}
		if len(s.only) > 0 && !slices.Contains(s.only, broke.Code) {
			continue
		}
		_, mine := find(s.crux.Code)
		if _, its := find(best.Code); mine < its {
			best = s.crux
		}
	}
	return best
}
