package cli

import (
	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
	"anchorage.example/unicrux/render/document"
)

// lookParts are what look shows more closely.
var lookParts = []string{"keys", "tokens", "hosts", "remotes", "agent"}

func lookCommand(a *app) *cobra.Command {
	var brief bool
	command := &cobra.Command{
		Use:   "look [keys|tokens|hosts|remotes|agent]",
		Short: "What is on this workstation, who opens what, what is unsafe, what to do next",
		Long: `Looks at the keys of this home, the described hosts, and which key ssh would offer to which
of them. Nothing is changed, and nobody is asked over the network.

With --brief it prints a line for each thing that does not wait longer than two weeks, and
nothing where there is none: for a login, or above a prompt.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if brief {
				return lookBriefly(a, args)
			}
			part := "all"
			if len(args) == 1 {
				part = args[0]
			}
			if part == "remotes" {
				return showRemotes(a)
			}
			place, err := a.place()
			if err != nil {
				return err
			}
			view, err := look.Here(a.ctx, a.station, place.Registry)
			if err != nil {
				return err
			}
			return lookAt(a, part, view)
		},
	}
	command.Flags().BoolVar(&brief, "brief", false, "only what matters within 14 days, in a line each; else nothing")
	return command
}

func lookBriefly(a *app, args []string) error {
	if len(args) > 0 {
		return usage("look --brief looks at everything, and accepts no %s", untrusted.Quote(untrusted.Clean(args[0])))
	}
	list, err := look.Brief(a.station)
	if err != nil {
		return err
	}
	return a.show(render.Brief(a.style(), list, a.station.Now(), a.station.Tilde),
		render.BriefDocument(list, a.station.Now()))
}

// lookAt shows the whole view, or one part of it more closely. The document is the same; that of the hosts also has
// what is stored of their keys.
func lookAt(a *app, part string, view *look.View) error {
	s := a.style()
	text, known := "", (*document.KnownHosts)(nil)
	switch part {
	case "all":
		text = render.Look(s, view, a.station.Now(), a.station.Tilde)
	case "keys":
		var keys []render.KeyView
		for _, key := range view.Keys {
			keys = append(keys, withUses(a, viewOf(a, key.Pair), view.Keys))
		}
		text = render.Keys(s, keys, nil)
	case "hosts":
		stored, problems, err := storedKeys(a)
		if err != nil {
			return err
		}
		text = render.LookHosts(s, view, a.station.Tilde) + "\n" + render.StoredKeys(s, stored, problems,
			a.station.Tilde)
		known = render.KnownHosts(stored, problems)
	case "tokens":
		text = render.LookTokens(s, view.Tokens, a.station.Now())
	case "agent":
		text = render.LookAgents(s, view, a.station.Now(), a.station.Tilde)
	default:
		return usage("look shows %s, not %q%s", join(lookParts, ", ", " or "), part, nearestOf(part, lookParts))
	}
	return a.show(text, render.LookDocument(view, known, a.station.Now()))
}

func storedKeys(a *app) ([]look.Stored, []knownhosts.Problem, error) {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return nil, nil, err
	}
	return look.HostKeys(a.ctx, a.station, registry)
}
