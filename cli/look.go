package cli

import (
	"github.com/spf13/cobra"

	"unicrux/core/look"
	"unicrux/render"
)

func (a *app) lookCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "look",
		Short: "What is on this workstation, who opens what, what is unsafe, what to do next",
		Long: `Looks at the keys of this home, the described hosts, and which key ssh would offer to which
of them. Nothing is changed, and nobody is asked over the network.`,
		Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			place, err := a.place()
			if err != nil {
				return err
			}
			view, err := look.Here(a.ctx, a.station, place.Registry)
			if err != nil {
				return err
			}
			return a.show(a.style().Look(view, a.station.Tilde), render.LookDocument(view))
		},
	}
}
