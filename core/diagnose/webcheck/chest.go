package webcheck

import (
	"errors"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/untrusted"
)

// staleHelper looks whether another helper answers before ours, which has a token that is meant
// for this. It returns the evidence, or nothing.
func (t Travelled) staleHelper() []finding.Evidence {
	var own string
	for _, e := range t.keptHere() {
		kept, err := chest.Of(t.Station).Get(e)
		if err != nil || kept.Token.Equal(t.Sent.Password) { // closed, or it was ours
			return nil
		}
		if !e.Ended(t.Station.Now()) {
			own = e.Name
		}
	}
	if own == "" || t.Sent.Password.Empty() || t.Sent.From != "" { // it is not a helper that answered
		return nil
	}
	for _, s := range t.helpers() {
		if !hosts.IsHelper(s.Entry.Value) {
			return []finding.Evidence{finding.Saw(seen.AnsweredBy, untrusted.Clean(s.Entry.Value),
				t.Station.Tilde(s.Entry.Origin)),
				finding.Saw(seen.InTheChest, "the token "+own+", which is not asked for", "")}
		}
	}
	return nil
}

// silentChest tells why the chest, which git asks and which has a token for this, does not give it: it
// is closed, or the token has expired. It returns nil where neither is so.
func (t Travelled) silentChest() *finding.Crux {
	list := t.keptHere()
	if len(list) == 0 || !t.asksUs() {
		return nil
	}
	i := slices.IndexFunc(list, t.lasts)
	if i < 0 {
		return finding.New(causes.TokenEnded, finding.Proved,
			finding.Saw(seen.InTheChest, "the token "+list[0].Name, ""),
			finding.Saw(seen.Expired, list[0].Until.Format(time.DateOnly), ""))
	}
	if place := t.Registry.WebPlace(t.Base.Host); !slices.ContainsFunc(list,
		func(e chest.Entry) bool { return slices.Contains(e.Places, place) }) {
		e := list[i]
		found := finding.New(causes.TokenElsewhere, finding.Proved,
			finding.Saw(seen.InTheChest, "the token "+e.Name, ""),
			finding.Saw(seen.LeadsTo, place.String(), "the description of "+e.Host))
		for _, kept := range e.Places {
			found.Evidence = append(found.Evidence, finding.Saw(seen.StoredFor, kept.String(), "the chest"))
		}
		found.Token = e.Name
		return found
	}
	if _, err := chest.Of(t.Station).Get(list[i]); !errors.Is(err, chest.ErrClosed) {
		return nil
	}
	return finding.New(causes.ChestClosed, finding.Proved, finding.Saw(seen.InTheChest, "the token "+list[i].Name, ""),
		finding.Saw(seen.Asked, t.askedWhom(), ""))
}

// keptHere lists what the chest has for git's question.
func (s Settled) keptHere() []chest.Entry {
	list, _ := chest.Of(s.Station).At("https", allow.LowerHost(s.Base.Host)) // what is damaged answers nobody
	return slices.DeleteFunc(list,
		func(e chest.Entry) bool { return !e.Fits(s.WebUser, strings.TrimPrefix(s.Base.Path, "/")) })
}

func (s Settled) lasts(e chest.Entry) bool { return !e.Ended(s.Station.Now()) }

// inChest reports whether the chest has a token for this that has not expired.
func (s Settled) inChest() bool { return slices.ContainsFunc(s.keptHere(), s.lasts) }

// asksUs reports whether git asks us for credentials here.
func (s Settled) asksUs() bool {
	ours := func(set gitlink.URLSetting) bool { return hosts.IsHelper(set.Entry.Value) }
	return slices.ContainsFunc(s.helpers(), ours)
}

// accountOf is the account that a user name of git's stands for: on some hosts all say the same.
func (s Settled) accountOf(user string) string {
	if s.Host == nil || user == "" || user != s.Host.HTTPS.Username {
		return untrusted.Clean(user)
	}
	list := s.keptHere()
	accounts := map[string]bool{}
	for _, e := range list {
		accounts[e.Account] = true
	}
	if len(accounts) != 1 {
		return ""
	}
	return untrusted.Clean(list[0].Account)
}
