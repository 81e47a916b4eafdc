package ready

import (
	"context"
	"fmt"
	"slices"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/workstation"
)

// A Foreseen is a step that will probably be needed.
type Foreseen struct {
	Summary string
	Changes []string
	ByHand  bool // the person has to do something besides giving a secret

	trusts string // the host whose published key it stores; empty for any other step
}

// Foresee tells what will have to be done for a way that is broken: the mend of its crux,
// and what follows from it, as far as the person is there for it.
func Foresee(ctx context.Context, p site.Site, way *finding.Way, person Person) []Foreseen {
	if way.IsOpen() {
		return nil
	}
	var plan []Foreseen
	host, _ := p.Registry.Find(way.Question.Host) // nil where nobody has described it
	mend, found := attempts{}.next(way, person)
	if source, unknown := toLearn(ctx, p, way, person); unknown {
		host = source.Description
		words := fmt.Sprintf("Learn the host %s: it is called %s here.", host.HostName(), host.Name)
		plan = append(plan, Foreseen{Summary: words,
			Changes: []string{"a description of " + host.Name + ", which names its URL and nothing else"}})
		mend = finding.Mend{} // it is one of the steps that follow
	} else if found {
		plan = append(plan, Foreseen{Summary: mend.Summary, Changes: mend.Changes,
			ByHand: !mend.Automatic && mend.Action.Do != finding.UseURL})
	}
	switch {
	case host == nil || len(plan) == 0:
		return plan
	case way.Question.Transport == "https":
		return append(plan, foreseeWeb(host, way, mend)...)
	case mend.Action.Do == finding.NameSSH:
		return append(
			plan,
			Foreseen{
				Summary: "Check the way again with those settings, and mend what else is missing: a key, trust, registration.",
			},
		)
	}
	return append(plan, foreseeSSH(p, host, way, mend)...)
}

// toLearn is the host that is going to be learned.
func toLearn(ctx context.Context, p site.Site, way *finding.Way, person Person) (hosts.Source, bool) {
	if person.Learn == nil {
		return hosts.Source{}, false
	}
	source, unknown, err := unlearned(ctx, p, way, person.Learn())
	return source, unknown && err == nil
}

func foreseeWeb(host *describe.Description, way *finding.Way, mend finding.Mend) []Foreseen {
	asks := mend.Action.Do == finding.GetToken
	kept := []string{"a token in the chest, and whom git asks for " + host.Name}
	switch {
	case asks && !host.IsLearned():
		return nil
	case host.IsLearned() && !asks:
		return []Foreseen{{Summary: "Ask for the user name and a token for " + host.Name +
			", prove them by git's own request, and keep them.", Changes: kept, ByHand: true}}
	case mend.Action.Do == finding.SettleWeb && (host.Can("issue-token") || host.OAuth.Client == ""):
		return []Foreseen{{Summary: "Get a token for " + host.Name + ", unless git has one that serves.",
			Changes: kept}}
	}
	return nil
}

// foreseeSSH are the steps behind a mend: a key and trust, in the order in which they are wanted, and the registration.
func foreseeSSH(p site.Site, host *describe.Description, way *finding.Way, mend finding.Mend) []Foreseen {
	key, trusted := foreseeKey(p, host, way, mend.Action.Do), foreseeTrust(p, host, way, mend.Action.Do)
	plan := slices.Concat(key, trusted)
	if host.IsLearned() { // there ssh stops at the host's key first
		plan = slices.Concat(trusted, key)
	}
	return append(plan, foreseeRegistration(host, way, mend.Action.Do)...)
}

func foreseeKey(p site.Site, host *describe.Description, way *finding.Way, do finding.Act) []Foreseen {
	pair := []string{"a new pair in " + p.Station.Tilde(p.Station.SSHDir())}
	switch {
	case do == finding.MakeKey:
		return nil
	case !way.KeyAtHand:
		return []Foreseen{{Summary: "Make a key for " + host.Name + ".", Changes: pair}}
	case way.KeyWeak:
		return []Foreseen{{Summary: "Make a better key, unless " + host.Name + " knows the weak one that is here.",
			Changes: pair}}
	}
	return nil
}

func foreseeTrust(p site.Site, host *describe.Description, way *finding.Way, do finding.Act) []Foreseen {
	if way.HostKnown || do == finding.TrustHost || do == finding.CompareHost {
		return nil
	}
	step := Foreseen{Changes: []string{"the host keys in " + p.Station.Tilde(p.Station.SSHDir())}}
	step.Summary = "Compare the host's key with the one that " + host.Name + " publishes, and store it."
	step.trusts = host.Name
	if step.ByHand = !publishes(host); step.ByHand {
		step.Summary, step.trusts = "Compare the host's key with the fingerprint that you paste, and store it.", ""
	}
	return []Foreseen{step}
}

func foreseeRegistration(host *describe.Description, way *finding.Way, do finding.Act) []Foreseen {
	if way.KeyProved || do == finding.RegisterKey || do == finding.UseKey || do == finding.PasteKey {
		return nil
	}
	step := Foreseen{Summary: "Register the key with " + host.Name + " unless it knows it, and sign in to prove it.",
		Changes: []string{"the keys that " + host.Name + " knows"}}
	if step.ByHand = !host.Can("add-key"); step.ByHand {
		step.Summary = "Show the one line that you paste on the web page of " + host.Name +
			", and wait until it accepts the key."
	}
	return []Foreseen{step}
}

// publishes reports whether a host's description says what its keys are, or where they are listed.
func publishes(d *describe.Description) bool {
	return d.Can("host-keys") || len(d.SSH.HostKeys)+len(d.SSH.Fingerprints) > 0
}

// DryRun carries out what can be foreseen without changing anything, for its differences: files as they would be, and a
// line for what a host would be sent and for the clone. clone is its folder, as people write it; empty for none.
func DryRun(ctx context.Context, p site.Site, way *finding.Way, person Person,
	clone string) (*workstation.Batch, error) {
	batch := p.Station.Begin("Open the way.", true)
	plan := Foresee(ctx, p, way, person)
	if source, unknown := toLearn(ctx, p, way, person); unknown {
		if err := hosts.Add(batch, p.Station, source); err != nil {
			return batch, err
		}
		plan = plan[1:]
	}
	mend, found := attempts{}.next(way, person)
	if found && len(plan) > 0 && plan[0].Summary == mend.Summary && inFiles(mend.Action.Do) {
		if _, err := Apply(ctx, p, batch, mend.Action, finding.Request{}, Person{}); err != nil {
			return batch, err
		}
		plan = plan[1:]
	}
	for _, step := range plan {
		if step.trusts != "" { // it is asked, and nothing is stored
			if _, err := trust.Host(ctx, p, batch, step.trusts); err == nil {
				continue
			}
		}
		if err := batch.Act(ctx, step.Summary, workstation.HostStep{}, nil); err != nil {
			return batch, err
		}
	}
	if clone != "" && (way.IsOpen() || found || len(plan) > 0) {
		return batch, batch.Act(ctx, "Clone into "+clone+".", workstation.HostStep{}, nil)
	}
	return batch, nil
}

// inFiles reports whether all that an act does is to change files here: then a dry run shows how.
func inFiles(do finding.Act) bool {
	switch do {
	case finding.RegisterKey, finding.GetToken, finding.OpenChest, finding.CompareHost, finding.PasteKey,
		finding.TrustCA, finding.SignIn, finding.NameAuthor, finding.TrustHost, finding.UseURL, finding.LoadKey:
		return false
	}
	return do != ""
}
