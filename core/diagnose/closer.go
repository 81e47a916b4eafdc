package diagnose

import (
	"context"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/untrusted"
)

// mostTried bounds how often the way is gone again to find a setting that keeps it closed, and
// patience how long each step of that may take.
const (
	mostTried = 4
	patience  = 3 * time.Second
)

// unsettledCodes are breaks that another setting may explain: one that sends the way elsewhere, or
// keeps the right key back.
var unsettledCodes = []Code{"name-unknown", "url-alias-unknown", "network-down", "port-refused", "port-silent", "not-ssh", "not-tls", "connection-closed",
	"proxy-unreachable", "proxy-refused", "proxy-command-failed", "jump-failed", "host-key-unknown", "tls-name", "key-not-registered", "key-none",
	"key-not-offered", "key-elsewhere", "keys-too-many", "url-user-missing", "agent-unreachable", "key-file-missing", "repository-missing",
	"secret-missing", "signed-in-page", "url-port-in-short-form"}

// closer looks whether a rule or a setting is what closes the way: it goes the way once more
// without. What is proved so is the crux; otherwise the one that was found.
func (c *checker) closer(ctx context.Context, found *Crux) *Crux {
	if c.request.second || !slices.Contains(unsettledCodes, found.Code) {
		return found
	}
	for _, look := range []func(context.Context, *Crux) *Crux{c.rewritten, c.unmatched, c.shadowed} {
		if truer := look(ctx, found); truer != nil {
			return truer
		}
	}
	return found
}

// opens goes the way with something changed, and tells whether it gets to a host that knows us.
func (c *checker) opens(ctx context.Context, argument string, change func(*Request)) bool {
	request := c.request
	request.Argument, request.Purpose, request.second, request.Ask = argument, c.way.Question.Purpose, true, NobodyAsks
	request.Timeout = min(c.timeout(), patience)
	change(&request)
	way, err := Check(ctx, c.station, c.registry, request)
	return err == nil && (way.IsOpen() || way.Crux.Code == "key-locked" || slices.Index(Stages, way.Crux.Stage) > slices.Index(Stages, SignIn))
}

// rewritten looks whether the URL leads somewhere when git's rewriting rule does not hold.
func (c *checker) rewritten(ctx context.Context, found *Crux) *Crux {
	if c.rule == nil || c.rule.Origin == hosts.OurGitFile(c.station) { // ours leads where the person has told it to
		return nil
	}
	if !c.opens(ctx, c.given, func(r *Request) { r.AsIs = true }) {
		return nil
	}
	shown, _ := address.HideSecret(c.given)
	return crux("url-rewritten", Proved, Evidence{"rule", untrusted.Clean(c.rule.Prefix + " becomes " + c.rule.Base), c.station.Tilde(c.rule.Origin)},
		Evidence{"given", untrusted.Clean(shown), "which is open"}, Evidence{"there", found.Summary, ""})
}

// unmatched looks for a block of the ssh settings that was meant for this host and stands under
// another name: one that leads to the very place to which the URL, or the host's description, leads.
// A name that only looks alike, or another host at the same address, is never taken for it.
func (c *checker) unmatched(ctx context.Context, found *Crux) *Crux {
	if c.passage == nil || found.Stage == Repository {
		return nil
	}
	server := []string{c.passage.Client.HostName}
	if c.host != nil {
		server = append(server, c.host.HostName(), c.host.SSH.Address)
	}
	if !c.passage.Settings.MayName(server) {
		return nil
	}
	query, tried := c.passage.Settings.Query, 0
	query.Files, query.Exists = &sshconfig.Files{}, nil // of many names, most lead elsewhere: no name server is asked about them
	for _, alias := range query.Files.MayLead(sshconfig.HostNames(query), c.isServer) {
		if ctx.Err() != nil {
			return nil
		}
		if allow.SameHost(alias, c.address.Host) && alias == c.address.Host || strings.Contains(alias, "--") || tried == mostTried { // "--" is in the names that we make for accounts
			continue
		}
		query.Host = alias
		settled := sshconfig.Resolve(query).Client()
		if c.registry.ForHost(alias) != nil || !c.sameServer(settled) {
			continue
		}
		tried++
		if where := c.address; c.opens(ctx, func() string { where.Host = alias; return where.String() }(), func(*Request) {}) {
			return crux("ssh-config-unmatched", Proved, Evidence{"block", "Host " + untrusted.Clean(alias), c.origin(firstOrigin(query))},
				Evidence{"used", c.address.Host, "the URL"}, Evidence{"by that name", "the way is open", ""})
		}
	}
	return nil
}

// sameServer tells whether settings lead to the server that was asked for: where ssh would go by its
// name, or where the description of the host says that it is. Several hosts may share an address, so
// the port counts as well.
func (c *checker) sameServer(settled *sshconfig.Client) bool {
	if allow.SameHost(settled.HostName, c.passage.Client.HostName) && settled.Port == c.passage.Client.Port {
		return true
	}
	if c.host == nil || settled.Port != c.host.Port() {
		return false
	}
	return allow.SameHost(settled.HostName, c.host.HostName()) || c.host.SSH.Address != "" && settled.HostName == c.host.SSH.Address
}

// isServer tells whether a host name may be one of the server that was asked for ([checker.sameServer]).
func (c *checker) isServer(name string) bool {
	return allow.SameHost(name, c.passage.Client.HostName) || c.host != nil && (allow.SameHost(name, c.host.HostName()) || name == c.host.SSH.Address)
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
var shadowable = []string{"hostname", "port", "user", "identityagent", "identitiesonly", "proxyjump", "proxycommand", "hostkeyalias", "addressfamily",
	"preferredauthentications", "pubkeyauthentication", "userknownhostsfile", "stricthostkeychecking"}

// shadowed looks whether values that lost against earlier ones open the way.
func (c *checker) shadowed(ctx context.Context, found *Crux) *Crux {
	if c.passage == nil || found.Stage == Repository {
		return nil
	}
	var options []sshconfig.Option
	var evidence []Evidence
	for _, w := range c.passage.Settings.Winners() {
		if !slices.Contains(shadowable, w.Keyword) || len(w.Lost) == 0 || w.Values[0].Origin.File == "" || w.Values[0].Text() == w.Lost[0].Text() {
			continue
		}
		options = append(options, sshconfig.Option{Keyword: w.Keyword, Args: w.Lost[0].Args, Origin: "a later block"})
		evidence = append(evidence, Evidence{"wins", w.Keyword + " " + untrusted.Clean(w.Values[0].Text()), c.origin(w.Values[0].Origin)},
			Evidence{"loses", w.Keyword + " " + untrusted.Clean(w.Lost[0].Text()), c.origin(w.Lost[0].Origin)})
	}
	if len(options) == 0 || !c.opens(ctx, c.address.String(), func(r *Request) { r.Options, r.AsIs = options, true }) {
		return nil
	}
	return crux("ssh-config-shadowed", Proved, append(evidence, Evidence{"with the latter", "the way is open", ""})...)
}
