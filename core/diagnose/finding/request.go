package finding

import (
	"fmt"
	"time"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
)

// A Request says what to check.
type Request struct {
	Argument string  // a clone URL, a remote's name or a host; empty for what a plain push would use
	Purpose  Purpose // empty: clone for a URL or a host, push for a remote
	Account  string  // the account that is needed; empty for any
	Timeout  time.Duration
	Ask      sshway.Asker // asks for a passphrase
	Program  Program      // empty: the one that the folder and the URL suggest
	Into     string       // the folder, absolute, that a clone goes into; empty for the one that git would make
	ByHTTPS  bool         // Argument is a described host, and asked about over HTTPS

	Sent *Sent // what is sent over HTTPS, in place of what git's helpers answer; nil to ask them

	RunCommands bool // let the commands run on which ssh's settings depend, as ssh does

	Assume bool // that such a command of Match exec succeeds, without running it

	AsIs    bool               // the URL is as git has rewritten it: its rules do not hold any longer
	Options []sshconfig.Option // of ssh's command line, which win over all files

	Second bool // the way is tried with something changed, to find a cause: nothing further is tried from there
}

// GitUser is the login by which most hosts let git in.
const GitUser = "git"

// A Sent credential is shown to the host in place of what git's helpers would answer.
type Sent struct {
	User  string
	Token origin.Bound
}

// Patience bounds a step on the network of a way that is tried with something changed.
const Patience = 3 * time.Second

// For bounds a step on the network.
func (r Request) For() time.Duration {
	if r.Timeout == 0 {
		return 10 * time.Second
	}
	return r.Timeout
}

// PurposeOr is the purpose that was asked for, or another one where none was.
func (r Request) PurposeOr(otherwise Purpose) Purpose {
	if r.Purpose != "" {
		return r.Purpose
	}
	return otherwise
}

// NobodyAsks is an asker for when nobody can be asked.
func NobodyAsks(*sshkey.Pair) (secret.Text, error) { return secret.Text{}, sshway.ErrNobody }

// ErrTransport is returned, wrapped, for a question that cannot be answered.
var ErrTransport = fault.New("question-transport", fault.Failed, "the way over this transport cannot be checked, only those over SSH and HTTPS")

// ErrNoWeb is returned, wrapped, for a question about a host over HTTPS where nothing says where that is.
var ErrNoWeb = fault.New("question-no-web", fault.Refused, "its description names no address for git over HTTPS")

// ErrLocal is returned, in a [LocalError], for a folder on this computer, to which no way leads.
var ErrLocal = fault.New("url-is-a-folder", fault.Misused, "a folder on this computer, where nobody has to sign in")

// A LocalError is an [ErrLocal] that says which folder it is.
type LocalError struct{ Path string }

func (e *LocalError) Error() string { return fmt.Sprintf("%s: %v", untrusted.Clean(e.Path), ErrLocal) }

// Unwrap returns [ErrLocal].
func (e *LocalError) Unwrap() error { return ErrLocal }
