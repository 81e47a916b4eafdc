package diagnose

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explain names the cause of a failure that was met on the trip.
func (c *checker) explain(ctx context.Context, failure *wire.Failure, trip *wire.Trip) *Crux {
	switch failure.At {
	case wire.AtName, wire.AtConnect, wire.AtSpeak:
		return first(c.explainReach(ctx, failure), Reach, c.suspicions)
	case wire.AtTrust:
		return first(c.explainTrust(ctx, trip), Trust, c.suspicions)
	case wire.AtSignIn:
		return c.explainSignIn(ctx, failure, trip)
	}
	return first(c.explainService(ctx, failure, trip), Repository, c.suspicions)
}

func (c *checker) explainReach(ctx context.Context, failure *wire.Failure) *Crux {
	code := met(failure.Reason, "connection-closed")
	client := c.passage.Client
	if code == "proxy-command-failed" && client.ProxyJump != "" {
		code = "jump-failed"
	}
	for _, own := range []error{wire.ErrNoProxy, wire.ErrProxyRefuses, wire.ErrProxySignIn} { // the words of our own command to go through a proxy
		if code == "proxy-command-failed" && strings.Contains(failure.Words, own.Error()) {
			code = met(own, code)
		}
	}
	evidence := []Evidence{
		{"host", client.HostName, c.origin(client.Origin("hostname"))},
		{"port", strconv.Itoa(client.Port), c.origin(client.Origin("port"))},
	}
	if through := client.ProxyJump + client.ProxyCommand; through != "" {
		evidence = append(evidence, Evidence{"through", untrusted.Clean(through), c.origin(client.Origin("proxyjump"))})
	}
	if words := untrusted.Clean(failure.Words); words != "" {
		evidence = append(evidence, Evidence{"it says", untrusted.Quote(words), ""})
	}
	if code == "connection-closed" && client.ProxyCommand+client.ProxyJump == "" && wire.SpeaksTLS(ctx, client.HostName, client.Port, c.timeout()) {
		code, evidence = "not-ssh", append(evidence, Evidence{"it speaks", "TLS, as web servers do", ""})
	}
	if code == "jump-failed" {
		evidence = append(evidence, c.atJump(ctx)...)
	}
	if opened := c.otherPort(ctx, code); opened != "" {
		code, evidence = "ssh-port-blocked", append(evidence, Evidence{"other port", opened, "its description"})
	}
	if code == "name-unknown" && client.Family != "" && c.otherFamily(ctx) {
		value, origin, _ := c.passage.Settings.First("addressfamily")
		return crux("ssh-setting-hinders", Proved, Evidence{"setting", "AddressFamily " + untrusted.Clean(value), c.origin(origin)}, evidence[0],
			Evidence{"why", "the host has no address of that family", ""})
	}
	if likely := c.likelyName(); code == "name-unknown" && likely != "" {
		evidence = append(evidence, Evidence{"looks like", likely, ""})
	}
	return crux(code, Proved, evidence...)
}

// otherFamily tells whether the host has addresses of the family that settings leave out.
func (c *checker) otherFamily(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, c.timeout())
	defer cancel()
	addresses, err := net.DefaultResolver.LookupIPAddr(ctx, c.passage.Client.HostName)
	return err == nil && len(addresses) > 0
}

// otherPort tries the port that a host's description names for networks where the first one
// is closed, and says what answers there; nothing where it does not, or where somebody else does.
func (c *checker) otherPort(ctx context.Context, code Code) string {
	closed := code == "port-refused" || code == "port-silent" || code == "connection-closed"
	if !closed || c.host == nil || c.host.SSH.Other == 0 || c.passage.Client.Port != c.host.Port() {
		return ""
	}
	published, err := hostapi.Published(ctx, c.host, c.request.Timeout)
	if err != nil {
		return ""
	}
	plan := c.passage.Plan(func(key ssh.PublicKey) error {
		if !published.Has(sshkey.Plain(key)) {
			return errOnlyAsked
		}
		return nil
	}, c.request.Timeout)
	plan.Port = c.host.SSH.Other
	_, err = wire.GoSSH(ctx, plan) // without a key to offer it ends at the sign-in at the latest
	var failure *wire.Failure
	if err != nil && (!errors.As(err, &failure) || failure.At < wire.AtSignIn) {
		return ""
	}
	return fmt.Sprintf("%d answers, with a key that the host publishes", plan.Port)
}

// explainTrust tells an unknown key from a changed one and a changed one from a wrong
// one, by what the host publishes.
func (c *checker) explainTrust(ctx context.Context, trip *wire.Trip) *Crux {
	offered := Evidence{"offered", keyText(trip.HostKey), net.JoinHostPort(c.passage.Client.HostName, strconv.Itoa(c.passage.Client.Port))}
	stored := Evidence{"stored", "nothing for " + c.passage.Client.KnownHostsName, ""}
	if c.by != nil {
		stored = Evidence{"stored", keyText(c.by.Key), c.station.Tilde(c.by.Origin())}
	}
	if c.verdict == knownhosts.KeyIsBanned {
		return c.explainBan(offered)
	}
	if c.verdict == knownhosts.Unknown {
		if found := c.hostCertificate(trip, offered); found != nil {
			return found
		}
	}
	published, match := c.published(ctx, trip.HostKey)
	code := Code("host-key-wrong")
	switch {
	case match == matches && c.verdict == knownhosts.Changed:
		code = "host-key-changed"
	case match != differs && c.verdict != knownhosts.Changed:
		code = "host-key-unknown"
	}
	found := crux(code, Proved, offered, stored, published)
	if code == "host-key-unknown" {
		found.Evidence = append(found.Evidence, c.firstContact())
	}
	for _, problem := range c.passage.Known.Problems {
		if problem.Line == 0 {
			found.Evidence = append(found.Evidence, Evidence{"not read", untrusted.Clean(problem.Err.Error()), c.station.Tilde(problem.File)})
		}
	}
	found.vouched = match == matches
	c.otherSources(found, trip.HostKey)
	return found
}

// otherSources says where ssh looks for the host's key besides: at a command, which is not run without leave, and at the
// name servers. Where one of them could not be asked, it is not certain that ssh does not know the key.
func (c *checker) otherSources(found *Crux, offered ssh.PublicKey) {
	command, origin, set := c.passage.Settings.First("knownhostscommand")
	if set && !strings.EqualFold(command, "none") && !c.request.RunCommands {
		found.Certainty = Likely
		found.Evidence = append(found.Evidence, Evidence{"not asked", "KnownHostsCommand " + untrusted.Clean(mask(command)), c.origin(origin)})
	}
	if evidence, unsure := c.nameServers(offered); evidence.Label != "" {
		found.Evidence = append(found.Evidence, evidence)
		if unsure {
			found.Certainty = Likely
		}
	}
}

// nameServers says what they say about a host's key, where settings want them asked; unsure where they do not answer
// and could settle it.
func (c *checker) nameServers(key ssh.PublicKey) (evidence Evidence, unsure bool) {
	if c.passage.Names == nil {
		return Evidence{}, false
	}
	value, origin, _ := c.passage.Settings.First("verifyhostkeydns")
	records, err := c.passage.Names()
	words := "have no fingerprint of the host's keys"
	switch {
	case err != nil:
		words = "could not be asked: " + untrusted.Clean(err.Error())
	case records.Match(key) && records.Secure:
		words = "vouch for this very key"
	case records.Match(key):
		words = "name this very key, but nothing proves that the answer is theirs (DNSSEC)"
	case records.Any():
		words = "name another key"
	}
	return Evidence{"name servers", words, c.origin(origin)}, err != nil && strings.EqualFold(value, "yes")
}

// explainBan names what keeps ssh from ever trusting the key: a mark beside it, a list of revoked keys, or
// that such a list cannot be read.
func (c *checker) explainBan(offered Evidence) *Crux {
	if c.by != nil {
		return crux("host-key-revoked", Proved, offered, Evidence{"revoked in", c.station.Tilde(c.by.Origin()), ""})
	}
	banned := c.passage.Banned
	setting := Evidence{"setting", "RevokedHostKeys " + untrusted.Clean(c.station.Tilde(banned.Path)), c.origin(banned.Origin)}
	if banned.Err == nil {
		return crux("host-key-revoked", Proved, offered, setting)
	}
	return crux("file-missing", Proved, Evidence{"file", untrusted.Clean(c.station.Tilde(banned.Path)), untrusted.Clean(banned.Err.Error())}, setting,
		Evidence{"it is for", "the host keys that are never trusted: while ssh cannot read it, ssh trusts no host", ""})
}

// firstContact says what ssh does about a key that it does not know.
func (c *checker) firstContact() Evidence {
	batch, _, _ := c.passage.Settings.First("batchmode")
	origin := c.origin(c.passage.Client.Origin("stricthostkeychecking"))
	if c.passage.Client.Strict == "yes" || batch == "yes" {
		return Evidence{"ssh", "refuses, and asks nobody", origin}
	}
	return Evidence{"ssh", "asks in a terminal whether the key is right, and refuses without one", origin}
}

// A comparison says how an offered host key compares with the published ones.
type comparison int

const (
	unpublished comparison = iota
	matches
	differs
)

// published compares a host's key with those that it publishes. Where it is none of them, the host is
// asked for its keys of other types before it is suspected: it may publish one alone.
func (c *checker) published(ctx context.Context, key ssh.PublicKey) (Evidence, comparison) {
	if c.host == nil {
		return Evidence{"published", "nothing that we know of: this host is not described here", ""}, unpublished
	}
	published, err := hostapi.Published(ctx, c.host, c.request.Timeout)
	switch {
	case err != nil && !published.Any():
		return Evidence{"published", "could not be asked: " + untrusted.Clean(err.Error()), ""}, unpublished
	case !published.Any():
		return Evidence{"published", "nothing", ""}, unpublished
	case published.Has(key):
		return Evidence{"published", "this very key", ""}, matches
	}
	for _, other := range wire.HostKeys(ctx, c.plan(), key, published.Has) {
		if published.Has(other) {
			return Evidence{"published", keyText(other) + ", which the host has as well", ""}, matches
		}
	}
	return Evidence{"published", published.First(), ""}, differs
}

func keyText(key ssh.PublicKey) string { return sshkey.Kind(key) + " " + sshkey.Fingerprint(key) }

// explainService names why the host did not open the repository. Where it may be a matter
// of the account, other keys are tried; a host that is overloaded is left in peace.
func (c *checker) explainService(ctx context.Context, failure *wire.Failure, trip *wire.Trip) *Crux {
	refused := c.explainRefusal(failure, trip)
	if refused.Code == "repository-missing" || refused.Code == "read-only-account" {
		if found := c.otherAccount(ctx, trip); found != nil {
			return found
		}
	}
	return refused
}

// explainRefusal reads the host's words, and what it did open.
func (c *checker) explainRefusal(failure *wire.Failure, trip *wire.Trip) *Crux {
	words := untrusted.Clean(trip.Answer.Words)
	evidence := []Evidence{{"asked for", untrusted.Clean(c.address.Path), ""}}
	if c.way.Account != "" {
		evidence = append(evidence, Evidence{"signed in as", c.way.Account, ""})
	}
	if words != "" {
		evidence = append(evidence, Evidence{"host says", untrusted.Quote(words), ""})
	}
	if trip.Instead.Open {
		evidence = append(evidence, Evidence{"reading", "works", ""})
	}
	if errors.Is(failure, wire.ErrSilent) || errors.Is(failure, wire.ErrNoSession) {
		return crux("host-failing", Likely, evidence...)
	}
	if says(words, `dubious ownership|safe\.directory`) { // the host's git says so of the host's folder
		found := crux("repository-owner", Proved, append(evidence, Evidence{"at the host", "its git refuses the folder, which belongs to another user than " + untrusted.Clean(c.passage.Client.User), ""})...)
		found.Stage = Repository
		return found
	}
	if c.host != nil {
		if code := Code(c.host.Meaning(words)); StageOf(code) != "" {
			return crux(code, Proved, evidence...)
		}
	}
	if trip.Instead.Open {
		return crux("read-only-account", Proved, evidence...)
	}
	told := meaning(words, SignIn, Permission)
	if told != "" && told != "repository-missing" {
		return crux(told, Likely, evidence...)
	}
	if trip.Exists {
		return crux("repository-not-git", Proved, append(evidence, Evidence{"at the host", "a file or folder of that name is there", ""})...)
	}
	if told != "" {
		return crux(told, Proved, evidence...)
	}
	return crux("repository-missing", Likely, append(evidence, Evidence{"exit status", fmt.Sprint(trip.Answer.Exit), ""})...)
}

// timeout bounds a step on the network.
func (c *checker) timeout() time.Duration {
	if c.request.Timeout == 0 {
		return 10 * time.Second
	}
	return c.request.Timeout
}

// NobodyAsks is an asker for when nobody can be asked.
func NobodyAsks(*sshkey.Pair) (secret.Text, error) { return secret.Text{}, sshway.ErrNobody }
