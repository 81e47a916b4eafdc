package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/draft"
	"anchorage.example/unicrux/core/effective"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/learn"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/peer"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/remotes"
	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/repos"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/takeback"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
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

// advices pairs errors of the core with the exit code and with what to do about them. The
// first that fits counts.
var advices = []struct {
	err    error
	code   string // as in documents; it never changes its meaning
	exit   int
	advice string
}{
	{workstation.ErrExists, "file-exists", exitCrux, "Choose another name. Unicrux never writes over a key."},
	{workstation.ErrNoChange, "change-unknown", exitCrux, "unicrux changes lists those that are."},
	{workstation.ErrUndone, "change-undone", exitCrux, "unicrux changes lists those that can be taken back."},
	{hosts.ErrSetting, "host-setting", exitUsage, ""},
	{remotes.ErrSecretIn, "remote-secret-in", exitCrux,
		"Nothing was changed. Move the secret into the chest with unicrux remote clean, or remove it with git remote set-url."},
	{workstation.ErrGone, "current-folder-missing", exitFailure, "Change to a folder that exists."},
	{workstation.ErrForeign, "file-foreign", exitFailure,
		"Nothing was changed. Ask its owner, or make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrLinked, "file-linked", exitFailure,
		"Nothing was changed. Make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrAttributes, "file-attributes", exitFailure,
		"Nothing was changed. Make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrLocked, "file-locked", exitFailure, "Try again in a moment. If no git is running, remove that lock file."},
	{gitlink.ErrInTheWay, "git-in-the-way", exitCrux, "Choose another folder with --into. Nothing was changed."},
	{renewal.ErrSigns, "renewal-signs", exitCrux, "Name another key there first (user.signingKey), then run the same command again."},
	{hostapi.ErrNoSigns, "api-no-signs", exitCrux,
		"Paste its line (unicrux key show KEY --line) on the host's page for keys that sign."},
	{registration.ErrWaited, "key-not-accepted-yet", exitCrux, "Run the same command again once the line is pasted."},
	{expiry.ErrForm, "date-form", exitUsage, ""},
	{expiry.ErrPast, "date-past", exitUsage, ""},
	{registration.ErrObsolete, "key-obsolete", exitCrux, "Make a new one and register that: unicrux key new."},
	{registration.ErrHostKind, "key-host-kind", exitCrux, "Make one of a type that it accepts: unicrux key new --type."},
	{registration.ErrTitle, "key-title", exitUsage, "Give another one with --title."},
	{registration.ErrOtherTerms, "key-other-terms", exitCrux, "Withdraw it first (unicrux key withdraw), then register it anew."},
	{tokens.ErrOwner, "token-of-another-account", exitCrux, "Give a token of the account that the key should open."},
	{hosts.ErrAccount, "host-account", exitUsage, ""},
	{hosts.ErrFolder, "host-folder", exitUsage, "Give it with --folder."},
	{hosts.ErrNoAccount, "host-no-account", exitCrux,
		"unicrux host account list HOST lists those that are; unicrux host account add adds one."},
	{registration.ErrOtherAccount, "key-other-account", exitCrux,
		"A key opens one account of a host. Make one of its own for this account: unicrux key new."},
	{hostapi.ErrNoUntil, "api-no-until", exitCrux, "Leave --until out, or say it on the host's page, with --by-hand."},
	{hostapi.ErrNoAccess, "api-no-access", exitCrux, "Leave --access out, or say it on the host's page, with --by-hand."},
	{repos.ErrNoDir, "folder-missing", exitUsage, "Name a folder that is there with --from."},
	{repos.ErrOtherRoot, "repository-other-root", exitCrux, "Go to the folder in which that repository begins, or choose another."},
	{repos.ErrAuthor, "repository-author", exitCrux,
		"Say so first: unicrux host set HOST author-name=NAME author-email=ADDRESS, or git config user.name and user.email."},
	{repos.ErrPush, "repository-push", exitCrux,
		"Name the crux with unicrux check --for push in that folder, then run the same command again."},
	{repos.ErrNoRepoHere, "repository-no-repo-here", exitCrux, "Run the same command again once it is created."},
	{oauth.ErrNone, "sign-in-not-offered", exitCrux, "Make a token on the host's page."},
	{oauth.ErrNoBrowser, "sign-in-no-browser", exitCrux,
		"Sign in by a code instead (without --browser), or make a token on the host's page."},
	{oauth.ErrNoDevice, "sign-in-no-device", exitCrux, "Make a token on the host's page."},
	{oauth.ErrMetadata, "sign-in-metadata", exitCrux, "Check oauth.issuer in the description."},
	{oauth.ErrElsewhere, "sign-in-elsewhere", exitCrux, "If that address is the host's, its description must name it: oauth.also."},
	{oauth.ErrDenied, "sign-in-denied", exitCrux, "Run the same command again if that was a mistake."},
	{oauth.ErrExpired, "sign-in-expired", exitCrux, "Run the same command again."},
	{oauth.ErrEnded, "sign-in-ended", exitCrux, "Sign in again: unicrux token sign-in HOST."},
	{oauth.ErrRefused, "sign-in-refused", exitCrux, "Check oauth.client and the scopes in the description."},
	{tokens.ErrTokenUnproved, "token-unproved", exitCrux, "Make a new one: unicrux token new HOST."},
	{tokens.ErrNotToken, "token-not-token", exitCrux, "Nothing was sent or kept."},
	{tokens.ErrNoWayBack, "token-no-way-back", exitCrux, "Get a new one: unicrux token new HOST."},
	{tokens.ErrWhichToken, "token-which-token", exitUsage, "unicrux token list names them."},
	{tokens.ErrNoToken, "token-no-token", exitCrux, "unicrux token list names those that there are."},
	{tokens.ErrRenewByHand, "token-renew-by-hand", exitCrux, "Get a new one (unicrux token new or add), then revoke the old one."},
	{chest.ErrWrong, "chest-passphrase-wrong", exitCrux, "Try again; capital letters count."},
	{chest.ErrClosed, "chest-closed", exitAsk, "Open it first: unicrux chest open."},
	{chest.ErrNoChest, "chest-no-chest", exitCrux, "Give the chest a passphrase first: unicrux chest passphrase."},
	{chest.ErrLost, "chest-lost", exitCrux, "Get it anew: unicrux token new HOST."},
	{chest.ErrOlder, "chest-older", exitFailure,
		"Move it out of the way with unicrux chest show --set-aside, then create the token again."},
	{chest.ErrDamaged, "chest-damaged", exitFailure, "unicrux chest show says more."},
	{chest.ErrSwapped, "chest-swapped", exitFailure,
		"Unicrux does not use it. Move it out of the way with unicrux chest show --set-aside, create another token, and find out who else can write to that folder."},
	{chest.ErrSeal, "chest-seal", exitFailure,
		"Nothing was stored. Set the passphrase again, which restores the file: unicrux chest passphrase. Then find out who else can write to that folder."},
	{workstation.ErrUnreadable, "file-unreadable", exitFailure,
		"Other changes can still be taken back by number; unicrux changes lists them."},
	{takeback.ErrUnknownAct, "undo-unknown-act", exitFailure, "Nothing was changed. Use the version that made the change."},
	{workstation.ErrNewer, "file-newer", exitFailure, "The file was not changed. Use that version of Unicrux here, too."},
	{chest.ErrNewer, "chest-newer", exitFailure, "The file was not changed. Use that version of Unicrux here, too."},
	{origin.ErrElsewhere, "secret-elsewhere", exitCrux,
		"Nothing was sent. If the host has moved, confirm that with unicrux token test TOKEN."},
	{origin.ErrUnprotected, "secret-unprotected", exitCrux, "Use the https address."},
	{peer.ErrStranger, "socket-of-another-user", exitFailure, "Nothing was sent there. Check the owner and the permissions of that folder."},
	{sshconfig.ErrUnwritable, "ssh-config-unwritable", exitFailure, "Nothing was changed."},
	{gitlink.ErrUnwritable, "git-unwritable", exitFailure, "Nothing was changed."},
	{chest.ErrBusy, "chest-busy", exitFailure, "Try again in a moment."},
	{desktop.ErrNoService, "desktop-no-service", exitFailure, "Keep secrets sealed instead: unicrux chest move --to sealed."},
	{finding.ErrNoWeb, "question-no-web", exitCrux, "Give the HTTPS clone URL of a repository there, or go by SSH."},
	{gitlink.ErrProtocol, "git-protocol", exitUsage, ""},
	{hostapi.ErrNoRepo, "api-no-repo", exitCrux, "Leave --repo out, or say it on the host's page."},
	{hostapi.ErrPage, "api-page", exitCrux,
		"The URL may be that of a sign-in page: check interface.url in the description."},
	{hostapi.ErrEndless, "api-endless", exitCrux, "Check how the description says that the list goes on (paging)."},
	{hostapi.ErrBusy, "api-busy", exitCrux, "Try again then."},
	{
		hosts.ErrNoOffer,
		"host-no-offer",
		exitCrux,
		"Ask whoever runs the host for its description, as a file or a URL. Without one: unicrux ready URL",
	},
	{hosts.ErrOtherHost, "host-other-host", exitCrux, "Nothing was kept. Tell whoever runs the host."},
	{hosts.ErrNoSource, "host-no-source", exitCrux, "Add it once more from its file or URL: unicrux host add FILE|URL|HOST"},
	{draft.ErrDocument, "draft-document", exitUsage, "Give the document of the host's API: OpenAPI 3 or Swagger 2.0, in JSON or YAML."},
	{draft.ErrNowhere, "draft-nowhere", exitUsage, "Name the host with --host, or give the https address of the document."},
	{learn.ErrDescribed, "learn-described", exitCrux, "unicrux host show HOST shows what is known of it."},
	{learn.ErrTransport, "learn-transport", exitUsage, "Give a clone URL such as git@HOST:REPOSITORY or https://HOST/REPOSITORY."},
	{learn.ErrName, "learn-name", exitUsage, "Give another one with --name."},
	{learn.ErrPlain, "learn-plain", exitUsage, "Use the https clone URL of the same repository."},
	{trust.ErrPage, "host-key-page", exitCrux, "Give the page on which the host publishes its fingerprints."},
	{sshkey.ErrClaim, "key-public-file-wrong", exitUsage, "Copy it whole, from the host's page or from whoever runs it."},
	{registration.ErrType, "key-type", exitCrux, "Make a key of another type: unicrux key new --host HOST --type rsa"},
	{
		ready.ErrRefusedToken,
		"ready-refused-token",
		exitCrux,
		"Nothing was kept. Check the user name, the token, and that it may open this repository.",
	},
	{hostapi.ErrWhose, "api-whose", exitUsage, "Name the account: ACCOUNT@HOST."},
	{hostapi.ErrAlready, "api-already", exitCrux, ""},
	{hostapi.ErrNotFound, "api-not-found", exitCrux, "Check the spelling, and that this account may see it."},
	{hostapi.ErrGone, "api-gone", exitCrux, "Check the spelling, and that this account may see it."},
	{hostapi.ErrNotHTTPS, "api-not-https", exitUsage, "Give an https address, or a file."},
	{hostapi.ErrPurpose, "api-purpose", exitUsage, "unicrux host show HOST lists what its tokens can be for."},
	{hostapi.ErrTooLong, "api-too-long", exitUsage, ""},
	{hostapi.ErrNeedsEnd, "api-needs-end", exitUsage, "Give the end with --until."},
	{hostapi.ErrNoTokenEnd, "api-no-token-end", exitUsage, "Leave --until out."},
	{hostapi.ErrLabel, "api-label", exitUsage, "Give another one with --label."},
	{
		hostapi.ErrNoPrivate,
		"api-no-private",
		exitCrux,
		"The host's API cannot make it private. Give --public, or create it on the host's web page.",
	},
	{hostapi.ErrNoGroup, "api-no-group", exitCrux, "Give the name alone, or create it on the host's page."},
	{keys.ErrNoPassphrase, "key-without-passphrase", exitCrux, ""},
	{registration.ErrStillTaken, "key-still-taken", exitCrux, "Run the same command again once it is taken away."},
	{renewal.ErrNowhere, "renewal-nowhere", exitCrux, "Make a new key for the host that you mean: unicrux key new --host HOST."},
	{renewal.ErrNoEnd, "renewal-no-end", exitUsage, "Give the end with --until, such as 1y."},
	{find.ErrNoFolder, "find-no-folder", exitFailure, ""},
	{effective.ErrNoFile, "settings-no-file", exitFailure, ""},
	{remotes.ErrNoRepository, "remote-no-repository", exitCrux, "Go to the folder of a clone."},
	{remotes.ErrNoRemote, "remote-no-remote", exitCrux, "unicrux remote list shows those that there are."},
	{remotes.ErrSameAlready, "remote-same-already", exitCrux, ""},
	{remotes.ErrNoSecret, "remote-no-secret", exitCrux, ""},
	{remotes.ErrNotKnown, "remote-not-known", exitCrux, "Describe it first (unicrux host add), or set the URL by git remote set-url."},
	{keys.ErrName, "key-name", exitUsage, "Keys are made in ~/.ssh, so that settings can point to them there."},
	{address.ErrPort, "url-port", exitUsage, ""},
	{keys.ErrNoKey, "key-no-key", exitCrux, "unicrux key list shows the keys that are here."},
	{keys.ErrPublic, "key-public", exitUsage, ""},
	{sshkey.ErrComment, "key-comment", exitUsage, ""},
	{sshkey.ErrKind, "key-kind", exitUsage, ""},
	{sshkey.ErrSize, "key-size", exitUsage, ""},
	{sshkey.ErrFormKind, "key-form-kind", exitUsage, "pkcs1 is for rsa, sec1 for ecdsa; openssh and pkcs8 are for every type."},
	{sshkey.ErrFormLock, "key-form-lock", exitUsage, "Say --no-passphrase, or choose openssh or pkcs8."},
	{registration.ErrNotThere, "key-not-registered-there", exitCrux, "unicrux key compare HOST shows the keys that it knows."},
	{workstation.ErrSecret, "undo-secret", exitCrux,
		"A passphrase is changed again by unicrux key passphrase; a secret that was moved is in the chest."},
	{sshkey.ErrPassphrase, "passphrase-wrong", exitCrux, "Try again; capital letters count."},
	{sshway.ErrNobody, "passphrase-not-asked", exitAsk, "Give --passphrase-from FILE, or - to read it from standard input."},
	{sshkey.ErrLocked, "passphrase-needed", exitAsk, "Give --passphrase-from FILE, or - to read it from standard input."},
	{keys.ErrNoAgent, "key-no-agent", exitCrux,
		"Name the host with --host, or let its settings use the key: unicrux host set HOST key=KEY."},
	{agent.ErrSilent, "agent-silent", exitCrux, "Check what SSH_AUTH_SOCK and IdentityAgent name."},
	{trust.ErrUnpublished, "host-key-unpublished", exitCrux,
		"Ask whoever runs the host for the fingerprint by another way, then give it with --fingerprint."},
	{trust.ErrOtherKey, "host-key-other", exitCrux,
		"Do not connect. Nothing was stored. Ask whoever runs the host, by another way, which fingerprint is right."},
	{trust.ErrRevoked, "host-key-revoked", exitCrux, "Do not connect. Ask whoever runs the host for its new key."},
	{registration.ErrUnproved, "key-unproved", exitCrux, "unicrux check with the clone URL names the crux."},
	{trust.ErrNoFile, "host-key-no-file", exitCrux, "Take UserKnownHostsFile none out of the settings for this host."},
	{hosts.ErrNoSSH, "host-no-ssh", exitCrux, "To get a token for it: unicrux token new HOST --for clone"},
	{hosts.ErrUnknown, "host-unknown", exitCrux, "unicrux host list shows those that are; unicrux host add FILE describes one."},
	{hostapi.ErrNoOperation, "api-no-operation", exitCrux, "Do it on the host's web page."},
	{hostapi.ErrAuthority, "api-authority", exitCrux, "If the host has a new authority, add its new description."},
	{hostapi.ErrUnreachable, "api-unreachable", exitCrux, "Check the network, and that the host is up."},
	{hostapi.ErrAnswer, "api-answer", exitCrux, "The description may be older than the host: ask for a newer one."},
	{hostapi.ErrRedirect, "api-redirect", exitCrux, "The description may be older than the host: ask for a newer one."},
	{gitlink.ErrNoGit, "git-missing", exitCrux, "Install git, or put it on the path."},
	{finding.ErrLocal, "url-is-a-folder", exitUsage, "Give a clone URL, or the name of a remote that has one."},
	{finding.ErrTransport, "question-transport", exitFailure, "Give the repository's SSH clone URL."},
	{wire.ErrNoProxy, "connection-no-proxy", exitCrux, "Check the proxy that is set: unicrux host show HOST --settings."},
	{wire.ErrProxyRefuses, "connection-proxy-refuses", exitCrux, "Ask whoever runs the proxy whether it leads there."},
	{wire.ErrRefused, "connection-refused", exitCrux, "unicrux check with the host's name says more."},
	{wire.ErrNameUnknown, "host-name-unknown", exitCrux, "Check the spelling."},
	{wire.ErrSilent, "connection-silent", exitCrux, "Check the network, and that the host is up."},
	{wire.ErrNotSSH, "connection-not-ssh", exitCrux, "Check the port."},
	{wire.ErrHungUp, "connection-closed", exitCrux, "Try again in a minute."},
	{fs.ErrNotExist, "file-missing", exitFailure, ""},
	{fs.ErrPermission, "file-permission", exitFailure, "Look who owns the file and who may read and write it."},
}

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
	if errors.As(err, &description) {
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
	for _, row := range advices {
		if errors.Is(err, row.err) {
			row.advice = strings.TrimSpace(perhaps(err) + row.advice)
			return &problem{message: message(err), advice: row.advice, exit: row.exit, code: row.code}
		}
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
