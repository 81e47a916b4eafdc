package causes

import (
	"slices"

	"anchorage.example/unicrux/core/lazyregexp"
)

// What people are told to run to see more (ssh -v, GIT_TRACE, GIT_CURL_VERBOSE) prints what a program does beside what
// went wrong. Only the latter speaks for a cause: names of files, versions and options in the rest look like messages.

var (
	// debugLine is a line of ssh -v, by its level (log.c of OpenSSH).
	debugLine = lazyregexp.Late(`^debug[123]: `)
	// outcomes are the lines of ssh -v that say what came of something.
	outcomes = lazyregexp.Late(
		`(?i)^debug[123]: (offering |next authentication method|authentications that can continue|server accepts key|` +
			`read_passphrase: |no mutual signature|skipping \S+ key|connect to address|no such identity|identity file \S+ not accessible|` +
			`load_?\w* |key_load\w*: |no more authentication methods|sign_and_send|send_pubkey_test: no mutual|get_agent_identities|ssh_askpass|` +
			`.*(agent refused|communication with agent failed|revoked))`,
	)
	// traceLine is one of git's own traces, or of its web client's (GIT_TRACE, GIT_CURL_VERBOSE).
	traceLine = lazyregexp.Late(
		`^(?:[\d:.]+ +)?(?:[\w.-]+\.[ch]:\d+ +)?(?:trace|setup|performance|run_command|== Info|=> Send|<= Recv)(?::| )`,
	)
	// versionLine is the first line of ssh -v.
	versionLine = lazyregexp.Late(`^OpenSSH_\S+.*OpenSSL`)
)

// spoken leaves the lines of a text in which something went wrong.
func spoken(lines []string) []string {
	return slices.DeleteFunc(slices.Clone(lines), func(line string) bool {
		if debugLine().MatchString(line) {
			return !outcomes().MatchString(line)
		}
		return versionLine().MatchString(line) || traceLine().MatchString(line)
	})
}

// symptoms are the causes of which the usual message is also the last word of others: a program says it whatever went
// wrong before.
var symptoms = []Code{
	SecretMissing,
	RepositoryMissing,
	ConnectionClosed,
	HostKeyUnknown,
	HostKeyWrong,
	KeyNotRegistered,
	KeyNone,
	HostFailing,
	ProxyCommandFailed,
	HookThere,
	RemoteMissing,
}

// Weights for the order of what a text says.
const (
	// clear is from what weight on an earlier line explains a symptom behind it.
	clear = 0.55
	// explained is what is left of the weight of a symptom that an earlier line explains.
	explained = 0.3
	// rival is from what weight on another cause keeps the first from being certain.
	rival = 0.5
)

// byOrder lets the earliest cause that a text names explain the symptoms behind it. at are the places of the lines in
// the text.
func byOrder(guesses []guess) {
	for i, symptom := range guesses {
		if !slices.Contains(symptoms, symptom.entry.code) {
			continue
		}
		for j, earlier := range guesses {
			if i != j && earlier.at < symptom.at && earlier.weight >= clear &&
				!slices.Contains(symptoms, earlier.entry.code) {
				guesses[i].weight = symptom.weight * explained
				break
			}
		}
	}
}
