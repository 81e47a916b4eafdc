package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
)

// A problem is an error as the person meets it.
type problem struct {
	message string
	advice  string
	exit    int
	code    string // as in documents; empty for the usual one of the exit code
}

// usualCodes are those of errors that have none of their own.
var usualCodes = map[int]string{exitCrux: "refused", exitUsage: "usage", exitFailure: "failed", exitAsk: "not-asked",
	exitStopped: "stopped"}

// codeOf is the code of a problem in documents.
func (p *problem) codeOf() string { return cmp.Or(p.code, usualCodes[p.exit]) }

func (p *problem) Error() string { return p.message }

// usageAdvice is where to look after a wrong command line.
const usageAdvice = "unicrux --help lists the commands."

// told ends a command whose result has been printed already.
type told struct{ exit int }

func (t *told) Error() string { return fmt.Sprintf("exit %d", t.exit) }

var errStopped = &problem{message: "stopped", exit: exitStopped}

func usage(format string, args ...any) error {
	return &problem{message: fmt.Sprintf(format, args...), advice: usageAdvice,
		exit: exitUsage}
}

// exitOf is the exit code of each class of errors.
var exitOf = map[fault.Class]int{fault.Failed: exitFailure, fault.Refused: exitCrux, fault.Misused: exitUsage,
	fault.Unasked: exitAsk}

// asProblem finds the exit code and the advice for any error.
func asProblem(err error) *problem {
	var p *problem
	if errors.As(err, &p) {
		return p
	}
	if errors.Is(err, context.Canceled) {
		return errStopped
	}
	var refusal *hostapi.Refusal
	if errors.As(err, &refusal) {
		code, _ := causes.Find(refusal.Means)
		if advice := causes.Advice(code); advice != "" {
			return &problem{message: causes.Summary(code) + " " + capitalWords(untrusted.Clean(refusal.Error())) + ".",
				advice: advice, exit: exitCrux, code: code.String()}
		}
		return &problem{message: untrusted.Clean(refusal.Error()), advice: refusalAdvice(refusal.Status),
			exit: exitCrux}
	}
	var description *describe.Error
	if errors.As(err, &description) && fault.Of(err) == nil { // what has a code has its own advice
		return &problem{message: err.Error(), advice: "Correct the description and add it again. Nothing was changed.",
			exit: exitCrux}
	}
	var conflict *hosts.ConflictError
	if errors.As(err, &conflict) {
		return &problem{message: err.Error(), exit: exitCrux,
			advice: "Two descriptions of one place could receive each other's secrets. If the new one is right, drop the old one, then add it:\nunicrux host drop " + conflict.Name}
	}
	var choice *hostapi.ChoiceError
	if errors.As(err, &choice) && len(choice.Choices) > 0 {
		exit := exitAsk
		if choice.Chosen != "" {
			exit = exitCrux
		}
		return &problem{message: untrusted.Clean(err.Error()), exit: exit,
			advice: "Choose one, once:\n" + shellwords.Join("unicrux", "host", "set", choice.Host,
				"chosen."+choice.Lookup+"="+untrusted.Clean(choice.Choices[0].Label))}
	}
	switch f := fault.Of(err); {
	case f != nil:
		return &problem{message: message(err), advice: strings.TrimSpace(perhaps(err) + advice[f.Code]),
			exit: exitOf[f.Class], code: f.Code}
	case errors.Is(err, fs.ErrNotExist):
		return &problem{message: message(err), exit: exitFailure, code: "file-missing"}
	case errors.Is(err, fs.ErrPermission):
		return &problem{message: message(err), advice: "Look who owns the file and who may read and write it.",
			exit: exitFailure, code: "file-permission"}
	}
	return &problem{message: message(err), exit: exitFailure}
}

// perhaps says which name was perhaps meant by one that nothing has; empty where none is near.
func perhaps(err error) string {
	var unknown *suggest.UnknownError
	if errors.As(err, &unknown) && unknown.Near != "" {
		return "Did you mean " + untrusted.Clean(unknown.Near) + "? "
	}
	return ""
}

func message(err error) string {
	var mismatch *trust.KeyMismatch
	if errors.As(err, &mismatch) {
		var offered []string
		for _, key := range mismatch.Offered {
			offered = append(offered, sshkey.Kind(key)+" "+sshkey.Fingerprint(key))
		}
		return fmt.Sprintf("the host offers %s, and none of its keys is %s: %s", strings.Join(offered, ", "),
			mismatch.Source, mismatch.Wanted)
	}
	return untrusted.Clean(withoutCall(err))
}

// withoutCall is the text of an error without the name of the call of the system that failed, and with the path of the
// file once.
func withoutCall(err error) string {
	var failed *fs.PathError
	if !errors.As(err, &failed) {
		return err.Error()
	}
	before, after, _ := strings.Cut(err.Error(), failed.Error())
	if strings.Contains(before, filepath.Base(failed.Path)) {
		return before + failed.Err.Error() + after
	}
	return before + failed.Path + ": " + failed.Err.Error() + after
}

func refusalAdvice(status int) string {
	switch status {
	case 401:
		return "Check the token: whole, for this host, and not expired."
	case 403:
		return "The token may not do this: make one that may manage keys."
	case 409:
		return "Make a key of its own for this account: unicrux key new."
	}
	return ""
}

func capitalWords(text string) string { return strings.ToUpper(text[:1]) + text[1:] }
