package diagnose

import (
	"context"
	"fmt"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/sshcheck"
	"anchorage.example/unicrux/core/diagnose/webcheck"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/waiting"
	"anchorage.example/unicrux/core/workstation"
)

// Check goes the way and returns what it found: of a push that goes to several URLs the first that is not
// open. An error means that the question could not be asked, not that the way is broken; it is one of those of
// [localcheck.Locate], or of the files that were to be read.
func Check(ctx context.Context, station *workstation.Station, registry *hosts.Registry,
	request finding.Request) (*finding.Way, error) {
	way, located, err := once(ctx, station, registry, request)
	if err == nil {
		way = asGit(ctx, way, located)
	}
	if err != nil || !way.IsOpen() || located.Hg != nil || way.Question.Remote == "" ||
		way.Question.Purpose != finding.Push {
		return way, err
	}
	urls, own := located.Config.PushURLs(way.Question.Remote)
	for i, url := range urls[min(1, len(urls)):] {
		request.Purpose, request.AsIs = finding.Push, true
		request.Argument, _ = address.Rewrite(url.Value, located.Config.Rules(), true, own)
		found, _, err := once(ctx, station, registry, request)
		if err != nil {
			return nil, err
		}
		found.Question.Remote = way.Question.Remote
		var part finding.Part
		part.Fact(causes.Address, "remote", fmt.Sprintf("%s, number %d of the %d URLs to which a push goes",
			way.Question.Remote, i+2, len(urls)), station.Tilde(url.Origin))
		if found.Add(part); !found.IsOpen() {
			return found, nil
		}
	}
	return way, nil
}

// asGit asks about a host once more as the usual user of hosts for git, where nobody named a user and the host refuses
// the login name here. What it finds counts where it gets further, or tells more.
func asGit(ctx context.Context, way *finding.Way, located localcheck.Located) *finding.Way {
	if way.IsOpen() || way.Crux.Stage != causes.SignIn || !located.Undescribed() || located.Base != nil ||
		located.Question.Repo != "" || located.Request.Second ||
		way.Question.User != located.Station.User || way.Question.User == finding.GitUser {
		return way
	}
	request := located.Request
	request.Argument = finding.GitUser + "@" + located.Address.Host
	other, _, err := once(ctx, located.Station, located.Registry, request)
	if err != nil || !other.IsOpen() && other.Crux.Code == way.Crux.Code {
		return way
	}
	var part finding.Part
	part.Fact(causes.SignIn, "user", finding.GitUser,
		"the usual one of hosts for git: "+located.Station.User+" is refused")
	other.Add(part)
	return other
}

// once goes the way to one URL.
func once(ctx context.Context, station *workstation.Station, registry *hosts.Registry,
	request finding.Request) (*finding.Way, localcheck.Located, error) {
	way := finding.NewWay()
	found, err := localcheck.Locate(ctx, station, registry, request)
	located := found.Located
	located.Question.Program = located.Program()
	way.Question = located.Question
	way.Add(found.Part)
	ctx = waiting.As(ctx, located.Question.Host)
	switch {
	case err != nil:
		return nil, located, err
	case found.Crux == nil && located.Done:
		return way, located, nil
	case located.Base != nil:
		err = overWeb(ctx, way, located, found.Crux)
	default:
		err = overSSH(ctx, way, located, found.Crux)
	}
	if err != nil {
		return nil, located, err
	}
	return way, located, nil
}

// overSSH goes on over SSH, unless the stage of the address broke.
func overSSH(ctx context.Context, way *finding.Way, located localcheck.Located, crux *finding.Crux) error {
	settled, part := sshcheck.Settled{Located: located}, finding.Part{}
	var err error
	if crux == nil {
		if settled, part, crux, err = sshcheck.Settle(ctx, located); err != nil {
			settled.Close()
			return err
		}
		way.Add(part)
	}
	defer settled.Close()
	if settled.Tried {
		return nil
	}
	if crux == nil {
		way.Question, way.HostName = settled.Question, located.Address.Host
		any, worthy := settled.AtHand()
		way.KeyAtHand, way.KeyWeak, way.HostKnown = any, !worthy, len(settled.Passage.Known.Keys) > 0
		var t sshcheck.Travelled
		if t, part, crux, err = sshcheck.Travel(ctx, settled); err != nil {
			return err
		}
		way.Add(part)
		way.Trip, way.Account, way.Key, way.Unlocked, way.KeyProved = t.Trip, t.Account, t.Key, t.Unlocked, t.Proved
		if crux == nil {
			crux = pushes(ctx, way, located, located.API(t.Account), t.Trip.Answer.Heads)
		}
		if crux == nil {
			if crux = unasked(ctx, located, settled); crux != nil {
				way.BreakAt(crux)
				way.Mends = crux.Mends
				return nil
			}
			way.Add(sshcheck.Notes(t))
			way.Add(finding.Part{Notes: movedNote(located, nil)})
			return nil
		}
	}
	crux = refine(ctx, located, &settled, moved(located, crux))
	way.BreakAt(crux)
	way.Add(finding.Part{Notes: movedNote(located, crux)})
	if way.Mends = ourMends(located, crux); way.Mends == nil {
		way.Mends = sshcheck.Mends(settled, way.Account, crux)
	}
	return nil
}

// pushes looks, where git is let in for pushing, for what stops a push all the same.
func pushes(ctx context.Context, way *finding.Way, located localcheck.Located, api *hostapi.Client,
	heads localcheck.Heads) *finding.Crux {
	part, crux := localcheck.Allowed(ctx, located, api)
	if way.Add(part); crux != nil {
		return crux
	}
	crux, notes := localcheck.Push(ctx, located, heads)
	way.Add(finding.Part{Notes: notes})
	return crux
}

// overWeb goes on over HTTPS, unless the stage of the address broke.
func overWeb(ctx context.Context, way *finding.Way, located localcheck.Located, crux *finding.Crux) error {
	settled, part := webcheck.Settled{Located: located}, finding.Part{}
	if crux == nil {
		settled, part, crux = webcheck.Settle(ctx, located)
		way.Add(part)
	}
	if crux == nil {
		t, part, broke, err := webcheck.Travel(ctx, settled)
		if err != nil {
			return err
		}
		way.Add(part)
		settled, way.Account = t.Settled, t.Account
		if crux = broke; crux == nil && !located.Alone {
			crux = pushes(ctx, way, located, t.API(), t.Trip.Answer.Heads)
		}
		if crux == nil {
			way.Add(finding.Part{Notes: append(webcheck.Notes(t), movedNote(located, nil)...)})
			return nil
		}
	}
	crux = refine(ctx, located, nil, moved(located, crux))
	way.BreakAt(crux)
	way.Add(finding.Part{Notes: movedNote(located, crux)})
	if way.Mends = ourMends(located, crux); way.Mends == nil {
		way.Mends = webcheck.Mends(settled, way.Account, crux)
	}
	return nil
}
