// Package audit looks at the homes of a machine for what its administrator asks of keys, secrets and settings there.
//
// Nobody is asked over the network, no program is started, nothing is written, and no secret is read: of a private file
// only what stands before the secret part. Each home is looked at with its owner's rights.
//
// [Look] is what callers want.
package audit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/identity"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// A State says how far a home could be looked at.
type State string

// The states.
const (
	Read   State = "read"
	Partly State = "partly"
	Unread State = "unread"
)

// A Report is what was found on one machine.
type Report struct {
	Machine  string // its name
	ID       string // of the machine, hashed, so that two of one name are told apart; empty where it has none
	When     time.Time
	Took     time.Duration
	Policy   policy.Policy
	Applied  declared.Kept // the state that was applied last
	Complete bool          // each home was read
	Excused  bool          // the policy does not mind that some were not
	Own      bool          // the machine's own files were looked at
	Homes    []Home
	Findings []Finding // the most urgent first
}

// A Finding is one thing that is not as the policy asks.
type Finding struct {
	ID     string // the same tomorrow, whatever line it stands on then
	Code   string // of [policy.Codes]
	Level  policy.Level
	Person string // empty for the machine itself
	Thing  string // a key's fingerprint, a token's name, a host, a setting
	Origin string // the file, with "~" for the home
	Line   int    // counted from 1; 0 for the file as a whole
	Also   string // what else there is to say: a number, a date, another place
	Since  time.Time
	Except *policy.Exception // by which it is allowed for now; nil for none
}

// Options say what is looked at.
type Options struct {
	Homes    []accounts.Home
	Policy   policy.Policy
	Own      []string      // the environment of whoever runs this, where it is her own home; nil for others'
	Patience time.Duration // for each home
	Machine  *apply.Places // the machine's own files as well; nil for homes alone
}

// patience is how long a home may take, where nothing else is said.
const patience = 30 * time.Second

// Look looks at homes, one after another. The error is that of ctx, or of a description of the administrator's that
// cannot be read.
func Look(ctx context.Context, station *workstation.Station, o Options) (*Report, error) {
	began := station.Now()
	r := &Report{Machine: station.Computer, ID: machineID(), When: began, Policy: o.Policy, Complete: true,
		Excused: true}
	managed, err := described(station)
	if err != nil {
		return nil, err
	}
	var findings []Finding
	if r.Applied, err = declared.Read(station); err != nil { // a report without it is better than none
		var s seen
		s.mark(policy.StateDiffers, "", declared.File(station.Machine), 0, untrusted.Clean(err.Error()))
		findings = judge(s, o.Policy, began)
	}
	err = each(ctx, station, eyes{managed: managed, policy: o.Policy, applied: r.Applied}, o, func(s seen) {
		found := judge(s, o.Policy, began)
		if s.State != Read {
			r.Complete = false
			r.Excused = r.Excused && excused(found)
		}
		r.Homes, findings = append(r.Homes, s.Home), append(findings, found...)
	})
	if err != nil {
		return nil, err
	}
	if r.Own = o.Machine != nil; r.Own {
		own, err := machine(station, *o.Machine)
		if err != nil {
			return nil, err
		}
		findings = append(findings, judge(own, o.Policy, began)...)
	}
	findings = append(append(findings, copied(r.Homes, o.Policy, began)...), ended(o.Policy, began)...)
	r.Findings = sorted(findings)
	r.Took = station.Now().Sub(began)
	return r, nil
}

// described are the hosts that the administrator describes here.
func described(station *workstation.Station) ([]*describe.Description, error) {
	alone := *station
	alone.Config = nowhere
	registry, err := hosts.Open(&alone)
	if err != nil {
		return nil, err
	}
	return registry.Hosts, errors.Join(registry.Problems...)
}

// nowhere is a folder that is not there.
const nowhere = "/nonexistent/unicrux"

// each looks at each home with its owner's rights, and hands over what was seen. The error is that of ctx.
func each(ctx context.Context, station *workstation.Station, e eyes, o Options, hand func(seen)) error {
	whos := make([]identity.Who, len(o.Homes))
	for i, home := range o.Homes {
		whos[i] = home.Who
	}
	start := func(i int) seen {
		home := o.Homes[i]
		return seen{Home: Home{Person: home.Person, UID: home.Who.UID, Path: home.Path, State: Read}}
	}
	return identity.Each(ctx, whos, cmp.Or(o.Patience, patience), func(i int) seen {
		s, its := start(i), e
		its.station = as(station, o.Homes[i], o.Own)
		s.look(its)
		return s
	}, func(i int, s seen, err error) {
		if err != nil {
			s = start(i)
			s.State, s.Why = Unread, err.Error()
			s.mark(policy.HomeUnread, "", s.Path, 0, err.Error())
		}
		hand(s)
	})
}

// ended are the exceptions that held once.
func ended(p policy.Policy, now time.Time) []Finding {
	var list []Finding
	for _, e := range p.Except {
		if e.Over(now) {
			f := finding(mark{code: policy.ExceptionEnded, thing: e.Rule, origin: p.File, also: "until " +
				e.Until.String()},
				e.Person)
			if f, counts := weigh(f, p, now); counts {
				list = append(list, f)
			}
		}
	}
	return list
}

// copied are private keys that lie in more than one home.
func copied(homes []Home, p policy.Policy, now time.Time) []Finding {
	where := map[string][]int{}
	for i, home := range homes {
		for _, key := range home.Keys {
			if at := where[key.Fingerprint]; key.Fingerprint != "" && (len(at) == 0 || at[len(at)-1] != i) {
				where[key.Fingerprint] = append(at, i)
			}
		}
	}
	var list []Finding
	for _, home := range homes {
		for _, key := range home.Keys {
			at := where[key.Fingerprint]
			if len(at) < 2 {
				continue
			}
			f := finding(mark{code: policy.KeyCopied, thing: key.Fingerprint, origin: key.Path,
				also: "also in the home of " + others(homes, at, home)}, home.Owner())
			if f, counts := weigh(f, p, now); counts {
				list = append(list, f)
			}
		}
	}
	return list
}

// others names the owners of the further homes in which a key is: two at most, and how many more there are.
func others(homes []Home, at []int, but Home) string {
	var names []string
	for _, i := range at {
		if homes[i].Path != but.Path {
			names = append(names, homes[i].Owner())
		}
		if len(names) == 2 {
			break
		}
	}
	if more := len(at) - 1 - len(names); more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names, ", "), more)
	}
	return strings.Join(names, " and ")
}

// excused tells that the policy does not mind that a home could not be read as a whole.
func excused(findings []Finding) bool {
	for _, f := range findings {
		if (f.Code == policy.HomeUnread || f.Code == policy.HomeTooLarge || f.Code == policy.HomeOwner) &&
			f.Except == nil {
			return false
		}
	}
	return true
}

// ranks order the levels, the most urgent first.
var ranks = []policy.Level{policy.Must, policy.Should, policy.Tell}

func sorted(list []Finding) []Finding {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(slices.Index(ranks, a.Level), slices.Index(ranks, b.Level)), cmp.Compare(a.Code,
			b.Code),
			cmp.Compare(a.Person, b.Person), cmp.Compare(a.Origin, b.Origin), cmp.Compare(a.Line, b.Line))
	})
	return slices.CompactFunc(list, func(a, b Finding) bool { return a.ID == b.ID && a.Line == b.Line })
}

// Wrong tells whether a finding stands that must not be: its level is must, and nothing excepts it.
func (r *Report) Wrong() bool {
	return slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Level == policy.Must && f.Except == nil })
}
