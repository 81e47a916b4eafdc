package sshcheck

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explain names the cause of a failure that was met on the trip.
func (t Travelled) explain(ctx context.Context, failure *wire.Failure) *finding.Crux {
	if errors.Is(failure, wire.ErrDamaged) { // wherever it shows, the line is at fault
		return finding.First(t.explainReach(ctx, failure), causes.Reach, t.suspicions)
	}
	switch failure.At {
	case wire.AtName, wire.AtConnect, wire.AtSpeak:
		return finding.First(t.explainReach(ctx, failure), causes.Reach, t.suspicions)
	case wire.AtTrust:
		return finding.First(t.explainTrust(ctx), causes.Trust, t.suspicions)
	case wire.AtSignIn:
		return t.explainSignIn(ctx, failure)
	}
	return finding.First(t.explainService(ctx, failure), causes.Repository, t.suspicions)
}

func (t Travelled) explainReach(ctx context.Context, failure *wire.Failure) *finding.Crux {
	code := finding.Met(failure.Reason, causes.ConnectionClosed)
	client := t.Passage.Client
	var mends []finding.Mend // those of a jump host
	if code == causes.ProxyCommandFailed && client.ProxyJump != "" {
		code = causes.JumpFailed
	}
	// the words of our own command to go through a proxy
	for _, own := range []error{wire.ErrNoProxy, wire.ErrProxyRefuses, wire.ErrProxySignIn} {
		if code == causes.ProxyCommandFailed && strings.Contains(failure.Message, own.Error()) {
			code = finding.Met(own, code)
		}
	}
	evidence := []finding.Evidence{
		finding.Saw(seen.Host, client.HostName, t.Origin(client.Origin("hostname"))),
		finding.Saw(seen.Port, strconv.Itoa(client.Port), t.Origin(client.Origin("port"))),
	}
	if through := client.ProxyJump + client.ProxyCommand; through != "" {
		evidence = append(evidence, finding.Saw(seen.Through, untrusted.Clean(through),
			t.Origin(client.Origin("proxyjump"))))
	}
	if words := untrusted.Clean(failure.Message); words != "" {
		evidence = append(evidence, finding.Saw(seen.ItSays, untrusted.Quote(words), ""))
	}
	if code == causes.ConnectionClosed && client.ProxyCommand+client.ProxyJump == "" &&
		wire.SpeaksTLS(ctx, client.HostName, client.Port, t.Request.For()) {
		code, evidence = causes.NotSSH, append(evidence, finding.Saw(seen.ItSpeaks, "TLS, as web servers do", ""))
	}
	if code == causes.JumpFailed {
		var met []finding.Evidence
		met, mends = t.atJump(ctx)
		evidence = append(evidence, met...)
	}
	if opened := t.otherPort(ctx, code); opened != "" {
		code, evidence = causes.SSHPortBlocked, append(evidence, finding.Saw(seen.OtherPort, opened, "its description"))
	}
	if code == causes.NameUnknown && client.Family != "" && t.otherFamily(ctx) {
		value, origin, _ := t.Passage.Settings.First("addressfamily")
		return finding.New(causes.SSHSettingHinders, finding.Proved,
			finding.Saw(seen.Setting, "AddressFamily "+untrusted.Clean(value), t.Origin(origin)), evidence[0],
			finding.Saw(seen.Why, "the host has no IP of that family", ""))
	}
	if likely := t.LikelyName(t.KnownHosts()); code == causes.NameUnknown && likely != "" {
		evidence = append(evidence, finding.Saw(seen.LooksLike, likely, ""))
	}
	found := finding.New(code, finding.Proved, evidence...)
	found.Mends = mends
	return found
}

// otherFamily tells whether the host has addresses of the family that settings leave out.
func (t Travelled) otherFamily(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, t.Request.For())
	defer cancel()
	addresses, err := net.DefaultResolver.LookupIPAddr(ctx, t.Passage.Client.HostName)
	return err == nil && len(addresses) > 0
}

// otherPort tries the port that a host's description names for networks where the first one
// is closed, and says what answers there; nothing where it does not, or where somebody else does.
func (t Travelled) otherPort(ctx context.Context, code causes.Code) string {
	closed := code == causes.PortRefused || code == causes.PortSilent || code == causes.ConnectionClosed
	if !closed || t.Host == nil || t.Host.SSH.Other == 0 || t.Passage.Client.Port != t.Host.Port() {
		return ""
	}
	published, err := hostapi.Published(ctx, t.Host, t.Request.Timeout)
	if err != nil {
		return ""
	}
	plan := t.Passage.Plan(func(key ssh.PublicKey) error {
		if !published.Has(sshkey.Plain(key)) {
			return errOnlyAsked
		}
		return nil
	}, t.Request.Timeout)
	plan.Port = t.Host.SSH.Other
	_, err = wire.GoSSH(ctx, plan) // without a key to offer it ends at the sign-in at the latest
	var failure *wire.Failure
	if err != nil && (!errors.As(err, &failure) || failure.At < wire.AtSignIn) {
		return ""
	}
	return fmt.Sprintf("%d answers, with a key that the host publishes", plan.Port)
}

// atJump goes to the jump hosts one after another, as ssh would, and returns what was seen of the crux of the first
// that is closed, with what mends it: that mends the way.
func (s Settled) atJump(ctx context.Context) ([]finding.Evidence, []finding.Mend) {
	for _, hop := range strings.Split(s.Passage.Client.ProxyJump, ",") {
		jump := s.Located
		jump.Address = jumpAddress(hop)
		jump.Host = s.Registry.ForHost(jump.Address.Host)
		jump.Request = finding.Request{Timeout: min(s.Request.For(), finding.Patience),
			Ask: finding.NobodyAsks, Second: true}
		jump.Question = finding.Question{Host: jump.HostName(), Transport: "ssh", Purpose: finding.Clone}
		found, mends, err := throughJump(ctx, jump)
		if err != nil {
			return nil, nil
		}
		if found != nil {
			return append(
				[]finding.Evidence{
					finding.Saw(seen.AtJumpHost, jump.Address.Host+": "+found.Summary, found.Code.String()),
				},
				found.Evidence...), mends
		}
	}
	return []finding.Evidence{finding.Saw(seen.ByThemselves,
		"the jump hosts let us in: they do not lead on from there", "")}, nil
}

// throughJump goes to one jump host.
func throughJump(ctx context.Context, jump localcheck.Located) (*finding.Crux, []finding.Mend, error) {
	settled, _, found, err := Settle(ctx, jump)
	if err != nil {
		return nil, nil, err
	}
	defer settled.Close()
	account := ""
	if found == nil {
		var t Travelled
		t, _, found, err = Travel(ctx, settled)
		account = t.Account
	}
	if err != nil || found == nil {
		return nil, nil, err
	}
	return found, Mends(settled, account, found), nil
}

// jumpAddress is one hop of ProxyJump.
func jumpAddress(hop string) address.Address {
	jump := sshconfig.ParseJump(hop)
	return address.Address{Scheme: "ssh", User: jump.User, Host: jump.Host, Port: uint16(jump.Port)}
}
