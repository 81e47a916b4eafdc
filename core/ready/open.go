package ready

import (
	"context"
	"slices"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/site"
)

// maxMends bounds how many mends are tried on one way. The catalogue's longest chain of
// them has eight links.
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
func Open(ctx context.Context, p site.Site, request finding.Request, person Person, told func(Step)) (*Opening, error) {
	opening := &Opening{}
	tried := attempts{}
	for range maxMends {
		way, err := diagnose.Check(ctx, p.Station, p.Registry, request)
		if err != nil {
			return opening, err
		}
		opening.Way = way
		step, err := settleManaged(p, way)
		if err == nil && step.Change == 0 {
			step, err = repoint(ctx, p, way)
		}
		if err != nil || step.Change != 0 {
			if err != nil {
				return opening, err
			}
			opening.Steps = append(opening.Steps, step)
			told(step)
			continue
		}
		if other := otherProgram(request, way); other != "" {
			request.Program = other
			told(Step{Code: way.Crux.Code, Summary: "It is a repository of " + string(other) + ": going on with that."})
			continue
		}
		if person.Learn != nil {
			source, unknown, err := unlearned(ctx, p, way, person.Learn())
			if err != nil {
				return opening, err
			}
			if unknown {
				var step Step
				if p, step, err = learnHost(p, way, source); err != nil {
					return opening, err
				}
				opening.Steps = append(opening.Steps, step)
				told(step)
				continue
			}
		}
		mend, found := tried.next(way, person)
		if !found {
			return opening, nil
		}
		if mend.Action.OtherHost != "" {
			if yes, err := person.MeansOther(way.HostName, mend.Action.OtherHost); err != nil || !yes {
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
		step, err = carryOut(ctx, p, way, mend, request, person)
		if step.Change != 0 {
			opening.Steps = append(opening.Steps, step)
		}
		if err == nil && mend.Action.Do == finding.TrustCA { // the description says it from now on
			p.Registry, err = hosts.Open(p.Station)
		}
		if err != nil {
			return opening, err
		}
		told(step)
	}
	return opening, nil
}

// otherProgram is the program whose repository is there, where nobody said for which the way is wanted and it is not
// that of the one that was tried; empty for none.
func otherProgram(request finding.Request, way *finding.Way) finding.Program {
	if request.Program != "" || way.IsOpen() {
		return ""
	}
	return way.Crux.Other
}

// An attempt is a mend that was carried out for a crux.
type attempt struct {
	crux           causes.Code
	do             finding.Act
	key, file, url string // what it was about
}

// The attempts that were made on one way: where the crux is there again, they were in vain.
type attempts map[attempt]bool

// next picks the first mend that needs nobody else than the person, as far as she is there, and was not tried before,
// which it is from now on.
func (tried attempts) next(way *finding.Way, person Person) (finding.Mend, bool) {
	for _, mend := range way.Mends {
		a := mend.Action
		this := attempt{way.Crux.Code, a.Do, a.Key, a.File, a.URL}
		usable := mend.Automatic || a.Do == finding.UseURL || person.can(a.Do)
		if usable && a.Do != "" && !tried[this] {
			tried[this] = true
			return mend, true
		}
	}
	return finding.Mend{}, false
}

func carryOut(ctx context.Context, p site.Site, way *finding.Way, mend finding.Mend,
	request finding.Request, person Person) (Step, error) {
	title := mend.Summary
	switch a := mend.Action; a.Do { // the mend says what the person does
	case finding.CompareHost, finding.TrustCA:
		title = "Trust " + a.Host + "."
	case finding.PasteKey:
		title = "Use a key for " + a.Host + "."
	}
	batch := p.Station.Begin(title, false, way.Question.Host)
	words, err := Apply(ctx, p, batch, mend.Action, request, person)
	return Step{Code: way.Crux.Code, Summary: words, Change: batch.Change().ID}, err
}

// repoint corrects settings that start this program where it is no longer, also where the way is open without.
func repoint(ctx context.Context, p site.Site, way *finding.Way) (Step, error) {
	noted := slices.ContainsFunc(way.Notes, func(n finding.Note) bool { return n.Code == causes.ProgramMoved })
	if !noted || p.Program == "" {
		return Step{}, nil
	}
	batch := p.Station.Begin("Let your settings start Unicrux where it is now.", false, way.Question.Host)
	err := hosts.Repoint(ctx, batch, p.Station, p.Program)
	return Step{Code: causes.ProgramMoved, Summary: "Your settings start Unicrux where it is now.",
		Change: batch.Change().ID}, err
}

// settleManaged configures ssh for a host that the machine's administrator describes, as adding it would have done.
func settleManaged(p site.Site, way *finding.Way) (Step, error) {
	d, err := p.Registry.Find(way.Question.Host)
	if err != nil || way.Question.Transport != "ssh" {
		return Step{}, nil // it is not described: something else is the matter then
	}
	settings := hosts.Unsettled(p.Station, d)
	if len(settings) == 0 {
		return Step{}, nil
	}
	batch := p.Station.Begin("Configure how ssh reaches "+d.Name+".", false, d.Name)
	err = hosts.Settle(batch, p.Station, d.HostName(), settings...)
	return Step{Code: causes.NameUnknown, Summary: "ssh reaches " + d.Name + " as this machine's description says.",
		Change: batch.Change().ID}, err
}
