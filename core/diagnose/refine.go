package diagnose

import (
	"context"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/diagnose/sshcheck"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/untrusted"
)

// mostTried bounds how often the way is gone again to find a setting that keeps it closed.
const mostTried = 4

// unsettledCodes are breaks that another setting may explain: one that sends the way elsewhere, or
// keeps the right key back.
var unsettledCodes = []causes.Code{causes.NameUnknown, causes.URLAliasUnknown, causes.NetworkDown, causes.PortRefused,
	causes.PortSilent, causes.NotSSH, causes.NotTLS, causes.ConnectionClosed,
	causes.ProxyUnreachable, causes.ProxyRefused, causes.ProxyCommandFailed, causes.JumpFailed, causes.HostKeyUnknown,
	causes.TLSName, causes.KeyNotRegistered, causes.KeyNone,
	causes.KeyNotOffered, causes.KeyElsewhere, causes.KeysTooMany, causes.URLUserMissing, causes.AgentUnreachable,
	causes.KeyFileMissing, causes.RepositoryMissing,
	causes.SecretMissing, causes.SignedInPage, causes.URLPortInShortForm}

// A refiner looks for a truer cause behind one that was found.
type refiner struct {
	localcheck.Located
	ssh   *sshcheck.Settled // nil for a way over HTTPS
	found *finding.Crux
}

// refine looks whether a rule or a setting is what closes the way: it goes the way once more
// without. What is proved so is the crux; otherwise the one that was found.
func refine(ctx context.Context, located localcheck.Located, ssh *sshcheck.Settled, found *finding.Crux) *finding.Crux {
	if located.Request.Second || !slices.Contains(unsettledCodes, found.Code) {
		return found
	}
	if ssh != nil && ssh.Passage == nil {
		ssh = nil
	}
	r := refiner{located, ssh, found}
	for _, look := range []func(refiner, context.Context) *finding.Crux{refiner.rewritten, refiner.unmatched,
		refiner.shadowed} {
		if truer := look(r, ctx); truer != nil {
			return truer
		}
	}
	return found
}

// opens goes the way with something changed, and tells whether it gets to a host that knows us.
func (r refiner) opens(ctx context.Context, argument string, change func(*finding.Request)) bool {
	request := r.Request
	request.Argument, request.Purpose, request.Second, request.Ask = argument, r.Question.Purpose, true,
		finding.NobodyAsks
	request.Timeout = min(r.Request.For(), finding.Patience)
	change(&request)
	way, err := Check(ctx, r.Station, r.Registry, request)
	return err == nil && (way.IsOpen() || way.Crux.Code == causes.KeyLocked || causes.SignIn.Before(way.Crux.Stage))
}

// rewritten looks whether the URL leads somewhere when git's rewriting rule does not hold.
func (r refiner) rewritten(ctx context.Context) *finding.Crux {
	if r.Rule == nil || r.Rule.Origin == hosts.OurGitFile(r.Station) { // ours leads where the person has told it to
		return nil
	}
	if !r.opens(ctx, r.Given, func(r *finding.Request) { r.AsIs = true }) {
		return nil
	}
	shown, _ := address.HideSecret(r.Given)
	return finding.New(causes.URLRewritten, finding.Proved,
		finding.Saw(seen.Rule, untrusted.Clean(r.Rule.Prefix+" becomes "+r.Rule.Base), r.Station.Tilde(r.Rule.Origin)),
		finding.Saw(seen.Given, untrusted.Clean(shown), "which is open"), finding.Saw(seen.There, r.found.Summary, ""))
}

// unmatched looks for a block of the ssh settings that was meant for this host and stands under
// another name: one that leads to the very place to which the URL, or the host's description, leads.
// A name that only looks alike, or another host at the same address, is never taken for it.
func (r refiner) unmatched(ctx context.Context) *finding.Crux {
	if r.ssh == nil || r.found.Stage == causes.Repository {
		return nil
	}
	server := []string{r.ssh.Passage.Client.HostName}
	if r.Host != nil {
		server = append(server, r.Host.HostName(), r.Host.SSH.Address)
	}
	if !r.ssh.Passage.Settings.MayName(server) {
		return nil
	}
	query, tried := r.ssh.Passage.Settings.Query, 0
	// of many names, most lead elsewhere: no name server is asked about them
	query.Files, query.Exists = &sshconfig.Files{}, nil
	for _, alias := range query.Files.MayLead(sshconfig.HostNames(query), r.isServer) {
		if ctx.Err() != nil {
			return nil
		}
		// "--" is in the names that we make for accounts
		if allow.SameHost(alias, r.Address.Host) && alias == r.Address.Host || strings.Contains(alias, "--") ||
			tried == mostTried {
			continue
		}
		query.Host = alias
		settled := sshconfig.Resolve(query).Client()
		if r.Registry.ForHost(alias) != nil || !r.sameServer(settled) {
			continue
		}
		tried++
		if where := r.Address; r.opens(ctx, func() string { where.Host = alias; return where.String() }(),
			func(*finding.Request) {}) {
			return finding.New(causes.SSHConfigUnmatched, finding.Proved,
				finding.Saw(seen.HostBlock, "Host "+untrusted.Clean(alias), r.Origin(firstOrigin(query))),
				finding.Saw(seen.Used, r.Address.Host, "the URL"), finding.Saw(seen.ByThatName, "the way is open", ""))
		}
	}
	return nil
}

// sameServer tells whether settings lead to the server that was asked for: where ssh would go by its
// name, or where the description of the host says that it is. Several hosts may share an address, so
// the port counts as well.
func (r refiner) sameServer(settled *sshconfig.Client) bool {
	if allow.SameHost(settled.HostName, r.ssh.Passage.Client.HostName) && settled.Port == r.ssh.Passage.Client.Port {
		return true
	}
	if r.Host == nil || settled.Port != r.Host.Port() {
		return false
	}
	return allow.SameHost(settled.HostName, r.Host.HostName()) || r.Host.SSH.Address != "" &&
		settled.HostName == r.Host.SSH.Address
}

// isServer tells whether a host name may be one of the server that was asked for ([refiner.sameServer]).
func (r refiner) isServer(name string) bool {
	return allow.SameHost(name, r.ssh.Passage.Client.HostName) || r.Host != nil &&
		(allow.SameHost(name, r.Host.HostName()) || name == r.Host.SSH.Address)
}

// firstOrigin is where the first setting of a host stands.
func firstOrigin(query sshconfig.Query) sshconfig.Origin {
	for _, w := range sshconfig.Resolve(query).Winners() {
		if origin := w.Values[0].Origin; origin.File != "" {
			return origin
		}
	}
	return sshconfig.Origin{}
}

// shadowable are the settings of which one block may take the place of another's.
var shadowable = []string{"hostname", "port", "user", "identityagent", "identitiesonly", "proxyjump", "proxycommand",
	"hostkeyalias", "addressfamily",
	"preferredauthentications", "pubkeyauthentication", "userknownhostsfile", "stricthostkeychecking"}

// shadowed looks whether values that lost against earlier ones open the way.
func (r refiner) shadowed(ctx context.Context) *finding.Crux {
	if r.ssh == nil || r.found.Stage == causes.Repository {
		return nil
	}
	var options []sshconfig.Option
	var evidence []finding.Evidence
	for _, w := range r.ssh.Passage.Settings.Winners() {
		if !slices.Contains(shadowable, w.Keyword) || len(w.Lost) == 0 || w.Values[0].Origin.File == "" ||
			w.Values[0].Text() == w.Lost[0].Text() {
			continue
		}
		options = append(options, sshconfig.Option{Keyword: w.Keyword, Args: w.Lost[0].Args, Origin: "a later block"})
		evidence = append(evidence, finding.Saw(seen.Wins, w.Keyword+" "+untrusted.Clean(w.Values[0].Text()),
			r.Origin(w.Values[0].Origin)),
			finding.Saw(seen.Loses, w.Keyword+" "+untrusted.Clean(w.Lost[0].Text()), r.Origin(w.Lost[0].Origin)))
	}
	if len(options) == 0 || !r.opens(ctx, r.Address.String(),
		func(r *finding.Request) { r.Options, r.AsIs = options, true }) {
		return nil
	}
	return finding.New(causes.SSHConfigShadowed, finding.Proved,
		append(evidence, finding.Saw(seen.WithTheLatter, "the way is open", ""))...)
}
