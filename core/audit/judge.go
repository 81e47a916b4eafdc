package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/sshkey"
)

// judge says which marks of a home the policy minds, and adds those that depend on what the policy asks.
func judge(s seen, p policy.Policy, now time.Time) []Finding {
	s.judgeKeys(p, now)
	s.judgeCertificates(p, now)
	s.judgeTokens(p, now)
	var list []Finding
	for _, m := range s.marks {
		if f, counts := weigh(finding(m, s.Owner()), p, now); counts {
			list = append(list, f)
		}
	}
	return list
}

func finding(m mark, person string) Finding {
	sum := sha256.Sum256([]byte(strings.Join([]string{m.code, person, m.thing, m.origin}, "\x00")))
	return Finding{ID: hex.EncodeToString(sum[:8]), Code: m.code, Person: person, Thing: m.thing, Origin: m.origin,
		Line: m.line, Also: m.also}
}

// weigh gives a finding its level; counts is false for what the policy does not mind.
func weigh(f Finding, p policy.Policy, now time.Time) (weighed Finding, counts bool) {
	f = Weigh(f, p, now)
	return f, f.Level != policy.Off && f.Level != ""
}

// Weigh gives a finding the level that a policy gives it, and the exception that allows it for now.
func Weigh(f Finding, p policy.Policy, now time.Time) Finding {
	f.Level, f.Since = p.Rule(f.Code).Level, now
	f.Except = p.Excepts(f.Code, f.Person, f.Thing, now)
	if f.Except == nil && f.Origin != "" {
		f.Except = p.Excepts(f.Code, f.Person, f.Origin, now)
	}
	return f
}

// longer tells whether a time is longer than a rule's days, and how many days it is.
func longer(rule policy.Rule, from, until time.Time) (days int, yes bool) {
	days = int(until.Sub(from).Hours() / 24)
	return days, rule.Days > 0 && !from.IsZero() && !until.IsZero() && days > rule.Days
}

func (s *seen) judgeKeys(p policy.Policy, now time.Time) {
	weak, old := p.Rule(policy.KeyWeak), p.Rule(policy.KeyOld)
	s.eachKey(policy.KeyWeak, func(k Key) (string, bool) {
		what := k.Kind
		if k.Bits > 0 {
			what = fmt.Sprintf("%s, %d bits", k.Kind, k.Bits)
		}
		least := max(weak.RSA, sshkey.LeastRSA)
		if weak.RSA > 0 {
			least = weak.RSA
		}
		return what, k.Kind == "dsa" || k.Kind == sshkey.RSA && k.Bits > 0 && k.Bits < least ||
			len(weak.Kinds) > 0 && k.Kind != "" && !slices.Contains(weak.Kinds, k.Kind)
	})
	s.eachKey(policy.KeyNoPassphrase, func(k Key) (string, bool) { return "", !k.Locked && !k.Device })
	s.eachKey(policy.KeyOld, func(k Key) (string, bool) {
		days, yes := longer(old, k.Made, now)
		return fmt.Sprintf("%d days", days), yes
	})
	s.eachKey(policy.KeyUnused, func(k Key) (string, bool) { return "", !k.Named && len(k.KnownAt) == 0 })
}

func (s *seen) judgeCertificates(p policy.Policy, now time.Time) {
	long, signed := p.Rule(policy.CertificateLong), p.Rule(policy.CertificateAuthority)
	for _, c := range s.Certificates {
		if !c.Until.IsZero() && !c.Until.After(now) {
			s.mark(policy.CertificateEnded, c.Fingerprint, c.Path, 0, "on "+day(c.Until))
		}
		if days, yes := longer(long, c.From, c.Until); yes || long.Days > 0 && c.Until.IsZero() {
			s.mark(policy.CertificateLong, c.Fingerprint, c.Path, 0, fmt.Sprintf("%d days", days))
		}
		if len(signed.Authorities) > 0 && !slices.Contains(signed.Authorities, c.Authority) {
			s.mark(policy.CertificateAuthority, c.Fingerprint, c.Path, 0, c.Authority)
		}
	}
}

func (s *seen) judgeTokens(p policy.Policy, now time.Time) {
	for _, t := range s.Tokens {
		at := func(code, also string) { s.mark(code, t.Name, t.At, 0, also) }
		soon := p.Rule(policy.TokenEndsSoon).Days
		switch {
		case t.Renews:
		case t.Until.IsZero():
			at(policy.TokenNeverEnds, "")
		case !t.Until.After(now):
			at(policy.TokenEnded, "on "+day(t.Until))
		case t.Until.Before(now.AddDate(0, 0, soon)):
			at(policy.TokenEndsSoon, "on "+day(t.Until))
		}
		if days, yes := longer(p.Rule(policy.TokenLongest), t.Made, t.Until); yes {
			at(policy.TokenLongest, fmt.Sprintf("%d days", days))
		}
		if allowed := p.Rule(policy.TokenTooWide).Scopes; len(allowed) > 0 {
			wide := slices.DeleteFunc(slices.Clone(t.Scopes),
				func(scope string) bool { return slices.Contains(allowed, scope) })
			if len(wide) > 0 {
				at(policy.TokenTooWide, strings.Join(wide, ", "))
			}
		}
		last := t.Made
		if t.Proved.After(last) {
			last = t.Proved
		}
		if days, yes := longer(p.Rule(policy.TokenIdle), last, now); yes {
			at(policy.TokenIdle, fmt.Sprintf("%d days", days))
		}
		if places := p.Rule(policy.ChestPlace).Places; len(places) > 0 && !slices.Contains(places, t.Place) {
			at(policy.ChestPlace, t.Place)
		}
	}
}
