package ready

import (
	"context"
	"errors"
	"fmt"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/workstation"
)

// maxMends bounds how many mends are tried on one way. The catalogue's longest chain of
// them has seven links.
const maxMends = 12

// A Step is a mend that was carried out.
type Step struct {
	Code    causes.Code // of the crux that it removed
	Summary string      // what was done, as a sentence
	Change  int         // the number of the change; 0 when nothing was recorded
}

// An Opening says how far a way could be opened.
type Opening struct {
	Way   *finding.Way // as it was found at the end
	Steps []Step
	URL   string // the clone URL that was used in the end, when it is not the one given
}

// Open goes a way and applies automatic mends, in order, until it is open or somebody else
// is needed. Each mend is one recorded change; told is called after it.
func Open(ctx context.Context, p site.Site, request finding.Request, secrets site.Secrets,
	told func(Step)) (*Opening, error) {
	opening := &Opening{}
	tried := attempts{}
	for range maxMends {
		way, err := diagnose.Check(ctx, p.Station, p.Registry, request)
		if err != nil {
			return opening, err
		}
		opening.Way = way
		mend, found := tried.next(way)
		if !found {
			return opening, nil
		}
		if mend.Action.OtherHost != "" {
			if yes, err := secrets.MeansOther(way.HostName, mend.Action.OtherHost); err != nil || !yes {
				return opening, err
			}
		}
		if mend.Action.Do == finding.UseURL {
			request.Argument, opening.URL = mend.Action.URL, mend.Action.URL
			step := Step{Code: way.Crux.Code, Summary: "Going on with the clone URL " + mend.Action.URL + "."}
			opening.Steps = append(opening.Steps, step)
			told(step)
			continue
		}
		step, err := carryOut(ctx, p, way.Crux.Code, mend, secrets)
		if step.Change != 0 {
			opening.Steps = append(opening.Steps, step)
		}
		if err != nil {
			return opening, err
		}
		told(step)
	}
	return opening, nil
}

// An attempt is a mend that was carried out for a crux.
type attempt struct {
	crux           causes.Code
	do             finding.Act
	key, file, url string // what it was about
}

// The attempts that were made on one way: where the crux is there again, they were in vain.
type attempts map[attempt]bool

// next picks the first mend that needs nobody else and was not tried before, which it is from now on.
func (tried attempts) next(way *finding.Way) (finding.Mend, bool) {
	for _, mend := range way.Mends {
		a := mend.Action
		this := attempt{way.Crux.Code, a.Do, a.Key, a.File, a.URL}
		if usable := mend.Automatic || a.Do == finding.UseURL; usable && a.Do != "" && !tried[this] {
			tried[this] = true
			return mend, true
		}
	}
	return finding.Mend{}, false
}

func carryOut(ctx context.Context, p site.Site, code causes.Code, mend finding.Mend,
	secrets site.Secrets) (Step, error) {
	batch := p.Station.Begin(mend.Summary, false)
	words, err := Apply(ctx, p, batch, mend.Action, secrets)
	return Step{Code: code, Summary: words, Change: batch.Change().ID}, err
}

// A Foreseen is a step that will probably be needed.
type Foreseen struct {
	Summary string
	Changes []string
}

// Foresee tells what will have to be done for a way that is broken: the mend of its crux,
// and what follows from it on a host that is described.
func Foresee(p site.Site, way *finding.Way) []Foreseen {
	if way.IsOpen() {
		return nil
	}
	mend, found := attempts{}.next(way)
	if !found {
		return nil
	}
	plan := []Foreseen{{mend.Summary, mend.Changes}}
	host, err := p.Registry.Find(way.Question.Host)
	if err != nil {
		return plan
	}
	if way.Question.Transport == "https" {
		if mend.Action.Do == finding.SettleWeb && (host.Can("issue-token") || host.OAuth.Client == "") {
			plan = append(plan, Foreseen{"Get a token for " + host.Name + ", unless git has one that serves.",
				[]string{"a token in the chest, and whom git asks for " + host.Name}})
		}
		return plan
	}
	if mend.Action.Do == finding.NameSSH {
		return append(plan, Foreseen{Summary: "Go the way again with those settings, and mend what else is missing: a key, trust, registration."})
	}
	if !way.KeyAtHand && mend.Action.Do != finding.MakeKey {
		plan = append(plan, Foreseen{"Make a key for " + host.Name + ".",
			[]string{"a new pair in " + p.Station.Tilde(p.Station.SSHDir())}})
	}
	if way.KeyAtHand && way.KeyWeak && mend.Action.Do != finding.MakeKey {
		plan = append(plan, Foreseen{"Make a better key, unless " + host.Name + " knows the weak one that is here.",
			[]string{"a new pair in " + p.Station.Tilde(p.Station.SSHDir())}})
	}
	if !way.HostKnown && mend.Action.Do != finding.TrustHost {
		plan = append(plan, Foreseen{"Compare the host's key with the one that " + host.Name +
			" publishes, and store it.",
			[]string{"the host keys in " + p.Station.Tilde(p.Station.SSHDir())}})
	}
	if !way.KeyProved && mend.Action.Do != finding.RegisterKey && mend.Action.Do != finding.UseKey &&
		host.Can("add-key") {
		plan = append(plan, Foreseen{"Register the key with " + host.Name +
			" unless it knows it, and sign in to prove it.",
			[]string{"the keys that " + host.Name + " knows"}})
	}
	return plan
}

// DryRun carries out what can be foreseen without changing anything, for its differences.
func DryRun(ctx context.Context, p site.Site, way *finding.Way) (*workstation.Batch, error) {
	batch := p.Station.Begin("Open the way.", true)
	mend, found := attempts{}.next(way)
	if !found || mend.Action.Do == finding.UseURL {
		return batch, nil
	}
	switch mend.Action.Do {
	case finding.RegisterKey, finding.GetToken,
		finding.OpenChest: // neither the host nor the person is asked in a dry run
		return batch, batch.Act(ctx, mend.Summary, workstation.HostStep{}, nil)
	}
	if _, err := Apply(ctx, p, batch, mend.Action, site.Secrets{}); err != nil {
		return batch, err
	}
	if mend.Action.Do == finding.MakeKey && !way.HostKnown {
		if _, err := trust.Host(ctx, p, batch, mend.Action.Host, ""); err != nil &&
			!errors.Is(err, trust.ErrUnpublished) {
			return batch, fmt.Errorf("trusting %s: %w", mend.Action.Host, err)
		}
	}
	return batch, nil
}
