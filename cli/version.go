package cli

import (
	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/about"
	"anchorage.example/unicrux/render"
)

// versionCommand is for what package atonce does not answer: more than the one word.
func versionCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show the version, commit, Go and platform",
		RunE: func(*cobra.Command, []string) error { return showVersion(a) },
	}
}

func showVersion(a *app) error { return a.show(about.Text(), render.VersionDocument()) }
