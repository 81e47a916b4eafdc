package diagnose

import (
	"context"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/diagnose/sshcheck"
	"anchorage.example/unicrux/core/untrusted"
)

// unasked looks, where a way is open, whether it also is where the blocks of ssh's settings count of which a command
// decides (Match exec in ssh_config(5)), which was not run. Where it is not, nobody knows, and the crux is what is met
// then: likely, and the way to know is to let the command run.
func unasked(ctx context.Context, located localcheck.Located, settled sshcheck.Settled) *finding.Crux {
	unknown := settled.Passage.Settings.Unknown
	if len(unknown) == 0 || located.Request.Second || located.Request.RunCommands {
		return nil
	}
	request := located.Request
	request.Second, request.Assume, request.Ask = true, true, finding.NobodyAsks
	way, err := Check(ctx, located.Station, located.Registry, request)
	if err != nil || way.IsOpen() {
		return nil
	}
	crux := *way.Crux
	crux.Certainty = finding.Likely
	crux.Evidence = append(crux.Evidence, finding.Saw(seen.NotKnown,
		"whether this block counts: its command was not run: Match "+untrusted.Clean(strings.Join(unknown[0].Args, " ")),
		located.Origin(unknown[0].Origin)))
	again := located.Again()
	again[2] = "--run-commands"
	crux.Mends = []finding.Mend{{Summary: "Let the command run, as ssh does, to know.", By: causes.You, Command: again}}
	return &crux
}
