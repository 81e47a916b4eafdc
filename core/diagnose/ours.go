package diagnose

import (
	"slices"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/untrusted"
)

// startedCodes are what is met where settings start this program and it is not there.
var startedCodes = []causes.Code{causes.HelperMissing, causes.SecretMissing, causes.SSHCommandBroken,
	causes.ProxyCommandFailed, causes.AgentUnreachable}

// moved is the crux where settings start this program at a path where it is no longer, and that explains what was
// found; else it is what was found.
func moved(located localcheck.Located, found *finding.Crux) *finding.Crux {
	calls := hosts.MovedCalls(located.Station)
	if len(calls) == 0 || found == nil || !slices.Contains(startedCodes, found.Code) {
		return found
	}
	return finding.New(causes.ProgramMoved, finding.Proved,
		finding.Saw(seen.Starts, untrusted.Clean(calls[0].Program), located.Station.Tilde(calls[0].Origin)),
		finding.Saw(seen.Program, "is not there, or cannot be run", ""))
}

// movedNote is for a way that is open all the same, or broken elsewhere.
func movedNote(located localcheck.Located, crux *finding.Crux) []finding.Note {
	if crux != nil && crux.Code == causes.ProgramMoved || len(hosts.MovedCalls(located.Station)) == 0 {
		return nil
	}
	return []finding.Note{finding.NewNote(causes.ProgramMoved, located.Question.Host)}
}

// ourMends is what corrects settings of ours: they lack a host that the administrator describes, or start this program
// where it is no longer; nil for other cruxes.
func ourMends(located localcheck.Located, crux *finding.Crux) []finding.Mend {
	settings := hosts.Unsettled(located.Station, located.Host)
	if len(settings) > 0 && !crux.Stage.Before(causes.Reach) {
		mend := finding.Mend{By: causes.You,
			Summary: "Configure ssh for " + located.Host.Name + ", as the description of this machine's administrator says."}
		return []finding.Mend{located.Command(mend, finding.Action{Do: finding.SettleHost, Settings: settings},
			located.Station.Tilde(hosts.OurFile(located.Station)), localcheck.Unicrux, "ready", located.Host.Name)}
	}
	if crux.Code != causes.ProgramMoved {
		return nil
	}
	mend := located.CatalogueMend(crux, "", nil)
	return []finding.Mend{located.Command(mend, finding.Action{Do: finding.Repoint},
		located.Station.Tilde(hosts.OurFile(located.Station))+", "+
			located.Station.Tilde(hosts.OurGitFile(located.Station)), located.Again()...)}
}
