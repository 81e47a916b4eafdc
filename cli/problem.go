package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
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
}

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
	exit   int
	advice string
}{
	{workstation.ErrExists, exitCrux, "Choose another name. Unicrux never writes over a key."},
	{workstation.ErrNoChange, exitCrux, "unicrux changes lists those that are."},
	{workstation.ErrUndone, exitCrux, "unicrux changes lists those that can be taken back."},
	{hosts.ErrSetting, exitUsage, ""},
	{remotes.ErrSecretIn, exitCrux,
		"Nothing was changed. Move the secret into the chest with unicrux remote clean, or remove it with git remote set-url."},
	{workstation.ErrGone, exitFailure, "Change to a folder that exists."},
	{workstation.ErrForeign, exitFailure,
		"Nothing was changed. Ask its owner, or make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrLinked, exitFailure,
		"Nothing was changed. Make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrAttributes, exitFailure,
		"Nothing was changed. Make the change yourself: with --dry-run, Unicrux shows it."},
	{workstation.ErrLocked, exitFailure, "Try again in a moment. If no git is running, remove that lock file."},
	{gitlink.ErrInTheWay, exitCrux, "Choose another folder with --into. Nothing was changed."},
	{renewal.ErrSigns, exitCrux, "Name another key there first (user.signingKey), then run the same command again."},
	{hostapi.ErrNoSigns, exitCrux,
		"Paste its line (unicrux key show KEY --line) on the host's page for keys that sign."},
	{registration.ErrWaited, exitCrux, "Run the same command again once the line is pasted."},
	{expiry.ErrForm, exitUsage, ""},
	{expiry.ErrPast, exitUsage, ""},
	{registration.ErrObsolete, exitCrux, "Make a new one and register that: unicrux key new."},
	{registration.ErrHostKind, exitCrux, "Make one of a type that it accepts: unicrux key new --type."},
	{registration.ErrTitle, exitUsage, "Give another one with --title."},
	{registration.ErrOtherTerms, exitCrux, "Withdraw it first (unicrux key withdraw), then register it anew."},
	{tokens.ErrOwner, exitCrux, "Give a token of the account that the key should open."},
	{hosts.ErrAccount, exitUsage, ""},
	{hosts.ErrFolder, exitUsage, "Give it with --folder."},
	{hosts.ErrNoAccount, exitCrux,
		"unicrux host account list HOST lists those that are; unicrux host account add adds one."},
	{registration.ErrOtherAccount, exitCrux,
		"A key opens one account of a host. Make one of its own for this account: unicrux key new."},
	{hostapi.ErrNoUntil, exitCrux, "Leave --until out, or say it on the host's page, with --by-hand."},
	{hostapi.ErrNoAccess, exitCrux, "Leave --access out, or say it on the host's page, with --by-hand."},
	{repos.ErrNoDir, exitUsage, "Name a folder that is there with --from."},
	{repos.ErrOtherRoot, exitCrux, "Go to the folder in which that repository begins, or choose another."},
	{repos.ErrAuthor, exitCrux,
		"Say so first: unicrux host set HOST author-name=NAME author-email=ADDRESS, or git config user.name and user.email."},
	{repos.ErrPush, exitCrux,
		"Name the crux with unicrux check --for push in that folder, then run the same command again."},
	{repos.ErrNoRepoHere, exitCrux, "Run the same command again once it is created."},
	{oauth.ErrNone, exitCrux, "Make a token on the host's page."},
	{oauth.ErrNoBrowser, exitCrux,
		"Sign in by a code instead (without --browser), or make a token on the host's page."},
	{oauth.ErrNoDevice, exitCrux, "Make a token on the host's page."},
	{oauth.ErrMetadata, exitCrux, "Check oauth.issuer in the description."},
	{oauth.ErrElsewhere, exitCrux, "If that address is the host's, its description must name it: oauth.also."},
	{oauth.ErrDenied, exitCrux, "Run the same command again if that was a mistake."},
	{oauth.ErrExpired, exitCrux, "Run the same command again."},
	{oauth.ErrEnded, exitCrux, "Sign in again: unicrux token sign-in HOST."},
	{oauth.ErrRefused, exitCrux, "Check oauth.client and the scopes in the description."},
	{tokens.ErrTokenUnproved, exitCrux, "Make a new one: unicrux token new HOST."},
	{tokens.ErrNotToken, exitCrux, "Nothing was sent or kept."},
	{tokens.ErrNoWayBack, exitCrux, "Get a new one: unicrux token new HOST."},
	{tokens.ErrWhichToken, exitUsage, "unicrux token list names them."},
	{tokens.ErrNoToken, exitCrux, "unicrux token list names those that there are."},
	{tokens.ErrRenewByHand, exitCrux, "Get a new one (unicrux token new or add), then revoke the old one."},
	{chest.ErrWrong, exitCrux, "Try again; capital letters count."},
	{chest.ErrClosed, exitAsk, "Open it first: unicrux chest open."},
	{chest.ErrNoChest, exitCrux, "Give the chest a passphrase first: unicrux chest passphrase."},
	{chest.ErrLost, exitCrux, "Get it anew: unicrux token new HOST."},
	{chest.ErrOlder, exitFailure,
		"Move it out of the way with unicrux chest show --set-aside, then create the token again."},
	{chest.ErrDamaged, exitFailure, "unicrux chest show says more."},
	{chest.ErrSwapped, exitFailure,
		"Unicrux does not use it. Move it out of the way with unicrux chest show --set-aside, create another token, and find out who else can write to that folder."},
	{chest.ErrSeal, exitFailure,
		"Nothing was stored. Set the passphrase again, which restores the file: unicrux chest passphrase. Then find out who else can write to that folder."},
	{workstation.ErrUnreadable, exitFailure,
		"Other changes can still be taken back by number; unicrux changes lists them."},
	{takeback.ErrUnknownAct, exitFailure, "Nothing was changed. Use the version that made the change."},
	{workstation.ErrNewer, exitFailure, "The file was not changed. Use that version of Unicrux here, too."},
	{chest.ErrNewer, exitFailure, "The file was not changed. Use that version of Unicrux here, too."},
	{origin.ErrElsewhere, exitCrux,
		"Nothing was sent. If the host has moved, confirm that with unicrux token test TOKEN."},
	{origin.ErrUnprotected, exitCrux, "Use the https address."},
	{peer.ErrStranger, exitFailure, "Nothing was sent there. Check the owner and the permissions of that folder."},
	{sshconfig.ErrUnwritable, exitFailure, "Nothing was changed."},
	{gitlink.ErrUnwritable, exitFailure, "Nothing was changed."},
	{chest.ErrBusy, exitFailure, "Try again in a moment."},
	{desktop.ErrNoService, exitFailure, "Keep secrets sealed instead: unicrux chest move --to sealed."},
	{finding.ErrNoWeb, exitCrux, "Give the HTTPS clone URL of a repository there, or go by SSH."},
	{gitlink.ErrProtocol, exitUsage, ""},
	{hostapi.ErrNoRepo, exitCrux, "Leave --repo out, or say it on the host's page."},
	{hostapi.ErrPage, exitCrux,
		"The URL may be that of a sign-in page: check interface.url in the description."},
	{hostapi.ErrEndless, exitCrux, "Check how the description says that the list goes on (paging)."},
	{hostapi.ErrBusy, exitCrux, "Try again then."},
	{
		hosts.ErrNoOffer,
		exitCrux,
		"Ask whoever runs the host for its description, as a file or a URL. Without one: unicrux ready URL",
	},
	{hosts.ErrOtherHost, exitCrux, "Nothing was kept. Tell whoever runs the host."},
	{hosts.ErrNoSource, exitCrux, "Add it once more from its file or URL: unicrux host add FILE|URL|HOST"},
	{draft.ErrDocument, exitUsage, "Give the document of the host's API: OpenAPI 3 or Swagger 2.0, in JSON or YAML."},
	{draft.ErrNowhere, exitUsage, "Name the host with --host, or give the https address of the document."},
	{learn.ErrDescribed, exitCrux, "unicrux host show HOST shows what is known of it."},
	{learn.ErrTransport, exitUsage, "Give a clone URL such as git@HOST:REPOSITORY or https://HOST/REPOSITORY."},
	{learn.ErrName, exitUsage, "Give another one with --name."},
	{learn.ErrPlain, exitUsage, "Use the https clone URL of the same repository."},
	{trust.ErrPage, exitCrux, "Give the page on which the host publishes its fingerprints."},
	{sshkey.ErrClaim, exitUsage, "Copy it whole, from the host's page or from whoever runs it."},
	{registration.ErrType, exitCrux, "Make a key of another type: unicrux key new --host HOST --type rsa"},
	{
		ready.ErrRefusedToken,
		exitCrux,
		"Nothing was kept. Check the user name, the token, and that it may open this repository.",
	},
	{hostapi.ErrWhose, exitUsage, "Name the account: ACCOUNT@HOST."},
	{hostapi.ErrAlready, exitCrux, ""},
	{hostapi.ErrNotFound, exitCrux, "Check the spelling, and that this account may see it."},
	{hostapi.ErrGone, exitCrux, "Check the spelling, and that this account may see it."},
	{hostapi.ErrNotHTTPS, exitUsage, "Give an https address, or a file."},
	{hostapi.ErrPurpose, exitUsage, "unicrux host show HOST lists what its tokens can be for."},
	{hostapi.ErrTooLong, exitUsage, ""},
	{hostapi.ErrNeedsEnd, exitUsage, "Give the end with --until."},
	{hostapi.ErrNoTokenEnd, exitUsage, "Leave --until out."},
	{hostapi.ErrLabel, exitUsage, "Give another one with --label."},
	{
		hostapi.ErrNoPrivate,
		exitCrux,
		"The host's API cannot make it private. Give --public, or create it on the host's web page.",
	},
	{hostapi.ErrNoGroup, exitCrux, "Give the name alone, or create it on the host's page."},
	{registration.ErrStillTaken, exitCrux, "Run the same command again once it is taken away."},
	{renewal.ErrNowhere, exitCrux, "Make a new key for the host that you mean: unicrux key new --host HOST."},
	{renewal.ErrNoEnd, exitUsage, "Give the end with --until, such as 1y."},
	{find.ErrNoFolder, exitFailure, ""},
	{effective.ErrNoFile, exitFailure, ""},
	{remotes.ErrNoRepository, exitCrux, "Go to the folder of a clone."},
	{remotes.ErrNoRemote, exitCrux, "unicrux remote list shows those that there are."},
	{remotes.ErrSameAlready, exitCrux, ""},
	{remotes.ErrNoSecret, exitCrux, ""},
	{remotes.ErrNotKnown, exitCrux, "Describe it first (unicrux host add), or set the URL by git remote set-url."},
	{keys.ErrName, exitUsage, "Keys are made in ~/.ssh, so that settings can point to them there."},
	{address.ErrPort, exitUsage, ""},
	{keys.ErrNoKey, exitCrux, "unicrux key list shows the keys that are here."},
	{keys.ErrPublic, exitUsage, ""},
	{sshkey.ErrComment, exitUsage, ""},
	{sshkey.ErrKind, exitUsage, ""},
	{sshkey.ErrSize, exitUsage, ""},
	{sshkey.ErrFormKind, exitUsage, "pkcs1 is for rsa, sec1 for ecdsa; openssh and pkcs8 are for every type."},
	{sshkey.ErrFormLock, exitUsage, "Say --no-passphrase, or choose openssh or pkcs8."},
	{keys.ErrStill, exitCrux, ""},
	{registration.ErrNotThere, exitCrux, "unicrux key compare HOST shows the keys that it knows."},
	{workstation.ErrSecret, exitCrux,
		"A passphrase is changed again by unicrux key passphrase; a secret that was moved is in the chest."},
	{sshkey.ErrPassphrase, exitCrux, "Try again; capital letters count."},
	{sshway.ErrNobody, exitAsk, "Give --passphrase-from FILE, or - to read it from standard input."},
	{sshkey.ErrLocked, exitAsk, "Give --passphrase-from FILE, or - to read it from standard input."},
	{keys.ErrNoAgent, exitCrux,
		"Name the host with --host, or let its settings use the key: unicrux host set HOST key=KEY."},
	{agent.ErrSilent, exitCrux, "Check what SSH_AUTH_SOCK and IdentityAgent name."},
	{trust.ErrUnpublished, exitCrux,
		"Ask whoever runs the host for the fingerprint by another way, then give it with --fingerprint."},
	{trust.ErrOtherKey, exitCrux,
		"Do not connect. Nothing was stored. Ask whoever runs the host, by another way, which fingerprint is right."},
	{trust.ErrRevoked, exitCrux, "Do not connect. Ask whoever runs the host for its new key."},
	{registration.ErrUnproved, exitCrux, "unicrux check with the clone URL names the crux."},
	{trust.ErrNoFile, exitCrux, "Take UserKnownHostsFile none out of the settings for this host."},
	{hosts.ErrNoSSH, exitCrux, "To get a token for it: unicrux token new HOST --for clone"},
	{hosts.ErrUnknown, exitCrux, "unicrux host list shows those that are; unicrux host add FILE describes one."},
	{hostapi.ErrNoOperation, exitCrux, "Do it on the host's web page."},
	{hostapi.ErrAuthority, exitCrux, "If the host has a new authority, add its new description."},
	{hostapi.ErrUnreachable, exitCrux, "Check the network, and that the host is up."},
	{hostapi.ErrAnswer, exitCrux, "The description may be older than the host: ask for a newer one."},
	{hostapi.ErrRedirect, exitCrux, "The description may be older than the host: ask for a newer one."},
	{gitlink.ErrNoGit, exitCrux, "Install git, or put it on the path."},
	{finding.ErrLocal, exitUsage, "Give a clone URL, or the name of a remote that has one."},
	{finding.ErrTransport, exitFailure, "Give the repository's SSH clone URL."},
	{wire.ErrNoProxy, exitCrux, "Check the proxy that is set: unicrux host show HOST --settings."},
	{wire.ErrProxyRefuses, exitCrux, "Ask whoever runs the proxy whether it leads there."},
	{wire.ErrRefused, exitCrux, "unicrux check with the host's name says more."},
	{wire.ErrNameUnknown, exitCrux, "Check the spelling."},
	{wire.ErrSilent, exitCrux, "Check the network, and that the host is up."},
	{wire.ErrNotSSH, exitCrux, "Check the port."},
	{wire.ErrHungUp, exitCrux, "Try again in a minute."},
	{fs.ErrNotExist, exitFailure, ""},
	{fs.ErrPermission, exitFailure, "Look who owns the file and who may read and write it."},
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
				advice: advice, exit: exitCrux}
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
			return &problem{message: message(err), advice: row.advice, exit: row.exit}
		}
	}
	return &problem{message: message(err), exit: exitFailure}
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
	return untrusted.Clean(err.Error())
}

func refusalAdvice(status int) string {
	switch status {
	case 401:
		return "Check the token: whole, for this host, and not ended."
	case 403:
		return "The token may not do this: make one that may manage keys."
	case 409:
		return "Make a key of its own for this account: unicrux key new."
	}
	return ""
}

func capitalWords(text string) string { return strings.ToUpper(text[:1]) + text[1:] }
