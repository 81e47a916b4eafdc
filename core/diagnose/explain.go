package diagnose

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"unicrux/core/knownhosts"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
	"unicrux/core/sshway"
	"unicrux/core/wire"
)

// suspectFiles notes causes in the settings that would explain a refused sign-in. They
// count only when the way breaks there: another key may open it all the same.
func (c *checker) suspectFiles() {
	if !c.passage.Client.KeySignIn {
		c.suspects = append(c.suspects, crux("ssh-setting-hinders", Proved,
			Evidence{"setting", "PubkeyAuthentication no", c.origin(c.passage.Client.Origin("pubkeyauthentication"))}))
		return
	}
	for _, left := range c.passage.Left {
		code := Code("key-file-unreadable")
		switch {
		case errors.Is(left.Err, fs.ErrNotExist):
			code = "key-file-missing"
		case errors.Is(left.Err, sshkey.ErrPublicHalf):
			code = "key-file-public"
		case errors.Is(left.Err, sshway.ErrExposed):
			code = "key-file-exposed"
		}
		file := Evidence{"file", c.station.Tilde(left.Path), c.origin(left.Origin)}
		suspect := crux(code, Proved, file)
		if code == "key-file-unreadable" {
			suspect.Evidence = append(suspect.Evidence, Evidence{"why", left.Err.Error(), ""})
		}
		c.suspects = append(c.suspects, suspect)
	}
	if len(c.suspects) == 0 && len(c.offered()) == 0 {
		c.suspects = append(c.suspects, c.noKey())
	}
}

func (c *checker) noKey() *Crux {
	var evidence []Evidence
	folders := map[string][]string{}
	for _, identity := range c.passage.Client.Identities {
		folder := c.station.Tilde(filepath.Dir(identity.Path))
		if folders[folder] == nil {
			evidence = append(evidence, Evidence{"looked in", folder, c.origin(identity.Origin)})
		}
		folders[folder] = append(folders[folder], filepath.Base(identity.Path))
	}
	for i, e := range evidence {
		evidence[i].Text = e.Text + " for " + strings.Join(folders[e.Text], ", ")
	}
	switch {
	case c.passage.Client.Agent == "":
		evidence = append(evidence, Evidence{"agent", "none", ""})
	case c.passage.AgentErr != nil:
		evidence = append(evidence, Evidence{"agent", "does not answer", c.station.Tilde(c.passage.Client.Agent)})
	default:
		evidence = append(evidence, Evidence{"agent", "holds no key", c.station.Tilde(c.passage.Client.Agent)})
	}
	return crux("key-none", Proved, evidence...)
}

// explain names the cause of a failure that was met on the trip.
func (c *checker) explain(ctx context.Context, failure *wire.Failure, trip *wire.Trip) *Crux {
	switch failure.At {
	case wire.AtName, wire.AtConnect, wire.AtSpeak:
		return c.explainReach(failure)
	case wire.AtTrust:
		// Without any key trust alone would not help, and the key is missed earlier on the way.
		if len(c.suspects) > 0 && c.suspects[0].Code == "key-none" {
			return c.suspects[0]
		}
		return c.explainTrust(ctx, trip)
	case wire.AtSignIn:
		return c.explainSignIn(failure, trip)
	}
	return c.explainService(failure, trip)
}

// reachCodes maps what the network said to the catalogue.
var reachCodes = []struct {
	reason error
	code   Code
}{
	{wire.ErrNameUnknown, "name-unknown"}, {wire.ErrNoNames, "network-down"}, {wire.ErrNoRoute, "network-down"},
	{wire.ErrRefused, "port-refused"}, {wire.ErrSilent, "port-silent"}, {wire.ErrNotSSH, "not-ssh"},
	{wire.ErrHungUp, "connection-closed"}, {wire.ErrAlgorithms, "algorithms-differ"}, {wire.ErrProxy, "proxy-command-failed"},
}

func (c *checker) explainReach(failure *wire.Failure) *Crux {
	code := Code("connection-closed")
	for _, row := range reachCodes {
		if errors.Is(failure.Reason, row.reason) {
			code = row.code
			break
		}
	}
	client := c.passage.Client
	if code == "proxy-command-failed" && client.ProxyJump != "" {
		code = "jump-failed"
	}
	evidence := []Evidence{
		{"host", client.HostName, c.origin(client.Origin("hostname"))},
		{"port", strconv.Itoa(client.Port), c.origin(client.Origin("port"))},
	}
	if through := client.ProxyJump + client.ProxyCommand; through != "" {
		evidence = append(evidence, Evidence{"through", Clean(through), c.origin(client.Origin("proxyjump"))})
	}
	if words := Clean(failure.Words); words != "" {
		evidence = append(evidence, Evidence{"it says", quote(words), ""})
	}
	return crux(code, Proved, evidence...)
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
		return crux("host-key-revoked", Proved, offered, Evidence{"revoked in", c.station.Tilde(c.by.Origin()), ""})
	}
	published, match := c.published(ctx, trip.HostKey)
	code := Code("host-key-wrong")
	switch {
	case match == matches && c.verdict == knownhosts.Changed:
		code = "host-key-changed"
	case match != differs && c.verdict != knownhosts.Changed:
		code = "host-key-unknown"
	}
	return crux(code, Proved, offered, stored, published)
}

// A comparison says how an offered host key compares with the published ones.
type comparison int

const (
	unpublished comparison = iota
	matches
	differs
)

// samekey is the evidence of a match.
const samekey = "this very key"

func (c *checker) published(ctx context.Context, key ssh.PublicKey) (Evidence, comparison) {
	if c.host == nil {
		return Evidence{"published", "nothing that we know of: this host is not described here", ""}, unpublished
	}
	published, err := c.host.Published(ctx, c.request.Timeout)
	switch {
	case err != nil && len(published.Keys) == 0:
		return Evidence{"published", "could not be asked: " + Clean(err.Error()), ""}, unpublished
	case len(published.Keys) == 0:
		return Evidence{"published", "nothing", ""}, unpublished
	case published.Has(key):
		return Evidence{"published", samekey, ""}, matches
	}
	return Evidence{"published", keyText(published.Keys[0]), ""}, differs
}

func keyText(key ssh.PublicKey) string { return sshkey.Kind(key) + " " + sshkey.Fingerprint(key) }

// explainSignIn names why none of the keys opened the door.
func (c *checker) explainSignIn(failure *wire.Failure, trip *wire.Trip) *Crux {
	keys := c.offered()
	for i, taken := range trip.Offered {
		if taken.OpenErr != nil {
			return c.unusable(keys[i], taken.OpenErr)
		}
	}
	if len(c.suspects) > 0 {
		return c.suspects[0]
	}
	evidence := c.offeredEvidence(len(trip.Offered))
	if failure.Words != "" {
		evidence = append(evidence, Evidence{"host says", quote(Clean(failure.Words)), ""})
	}
	switch {
	case errors.Is(failure, wire.ErrMore):
		return crux("second-step-needed", Proved, append(evidence, Evidence{"host wants", Clean(strings.Join(trip.Methods, ", ")), ""})...)
	case errors.Is(failure, wire.ErrNoKeySignIn):
		return crux("sign-in-other-way", Proved, Evidence{"host offers", Clean(strings.Join(trip.Methods, ", ")), ""})
	case errors.Is(failure, wire.ErrDenied):
		return crux("key-not-registered", Proved, append(evidence, Evidence{"signing in", "as " + Clean(c.passage.Client.User), c.origin(c.passage.Client.Origin("user"))})...)
	case errors.Is(failure, wire.ErrSilent):
		return crux("port-silent", Proved, evidence...)
	case len(trip.Offered) > 0 && len(trip.Offered) < len(keys):
		left := Evidence{"not tried", keyNames(keys[len(trip.Offered):]), ""}
		return crux("keys-too-many", Proved, append(evidence, left)...)
	case strings.Contains(failure.Words, "oo many authentication failures"):
		return crux("key-not-registered", Likely, evidence...)
	}
	return crux("connection-closed", Proved, evidence...)
}

// unusable names why a key that the host knows could not sign.
func (c *checker) unusable(key sshway.Key, err error) *Crux {
	evidence := []Evidence{{"key", key.Name + "  " + sshkey.Fingerprint(key.Public), c.origin(key.Origin)}}
	switch {
	case errors.Is(err, sshway.ErrNobody), errors.Is(err, sshkey.ErrLocked):
		return crux("key-locked", Proved, append(evidence, Evidence{"host", "would take this key", ""})...)
	case errors.Is(err, sshkey.ErrPassphrase):
		return crux("passphrase-wrong", Proved, evidence...)
	case key.InAgent:
		return crux("agent-refused", Proved, append(evidence, Evidence{"agent", c.station.Tilde(c.passage.Client.Agent), ""})...)
	}
	return crux("key-file-unreadable", Proved, evidence...)
}

func (c *checker) offeredEvidence(made int) []Evidence {
	var evidence []Evidence
	for _, key := range c.offered()[:made] {
		evidence = append(evidence, Evidence{"offered", key.Name + "  " + sshkey.Fingerprint(key.Public), c.origin(key.Origin)})
	}
	return evidence
}

func keyNames(keys []sshway.Key) string {
	names := make([]string, len(keys))
	for i, key := range keys {
		names[i] = key.Name
	}
	return strings.Join(names, ", ")
}

// refusalTexts are words by which hosts of any kind say what is wrong, where no
// description says more.
var refusalTexts = []struct {
	form *regexp.Regexp
	code Code
}{
	{regexp.MustCompile(`(?i)account .*(disabled|blocked|suspended|locked|not available)`), "account-blocked"},
	{regexp.MustCompile(`(?i)too many requests|rate limit`), "host-limits"},
	{regexp.MustCompile(`(?i)command not found|internal (server )?error`), "host-failing"},
}

// missingText is how git and hosts say that nothing is there.
var missingText = regexp.MustCompile(`(?i)not found|no (such )?repository|does not (appear to be|exist)|no such file`)

// explainService names why the host did not open the repository.
func (c *checker) explainService(failure *wire.Failure, trip *wire.Trip) *Crux {
	words := Clean(trip.Answer.Words)
	evidence := []Evidence{{"asked for", Clean(c.address.Path), ""}}
	if c.way.Account != "" {
		evidence = append(evidence, Evidence{"signed in as", c.way.Account, ""})
	}
	if words != "" {
		evidence = append(evidence, Evidence{"host says", quote(words), ""})
	}
	if trip.Instead.Open {
		evidence = append(evidence, Evidence{"reading", "works", ""})
	}
	if errors.Is(failure, wire.ErrSilent) {
		return crux("host-failing", Likely, evidence...)
	}
	if c.host != nil {
		if code := Code(c.host.Meaning(words)); StageOf(code) != "" {
			return crux(code, Proved, evidence...)
		}
	}
	if trip.Instead.Open {
		return crux("read-only-account", Proved, evidence...)
	}
	for _, row := range refusalTexts {
		if row.form.MatchString(words) {
			return crux(row.code, Likely, evidence...)
		}
	}
	if missingText.MatchString(words) {
		return crux("repository-missing", Proved, evidence...)
	}
	return crux("repository-missing", Likely, append(evidence, Evidence{"exit status", fmt.Sprint(trip.Answer.Exit), ""})...)
}

// notes gathers what is worth knowing about an open way.
func (c *checker) notes() {
	trip := c.way.Trip
	if trip == nil || trip.With < 0 {
		return
	}
	key := c.offered()[trip.With]
	if key.Pair != nil && !key.Pair.Locked {
		c.note("key-no-passphrase")
	}
	if kind := sshkey.Kind(key.Public); kind == "dsa" || (kind == "rsa" && sshkey.Bits(key.Public) < 3072) {
		c.note("key-weak")
	}
}

func (c *checker) note(code Code) {
	c.way.Notes = append(c.way.Notes, Note{Code: code, Summary: Summary(code)})
}

// NobodyAsks is an asker for when nobody can be asked.
func NobodyAsks(string) (secret.Text, error) { return secret.Text{}, sshway.ErrNobody }
