package cli

import (
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/draft"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/render"
)

func hostDraft(a *app) *cobra.Command {
	var o draft.Options
	var out string
	command := &cobra.Command{
		Use:   "draft FILE|URL",
		Short: "Write a description from the document of a host's API (OpenAPI 3, Swagger 2.0)",
		Long: `Reads the document in which a host describes its API, and drafts a description: which request
registers a key, lists repositories, issues a token, and what is sent and comes back. Each line says in a
comment where it comes from and how sure it is. What is doubted is a comment, and what was not found is
done on the host's web page.

Nothing is asked of the host. Look through the draft, then add it and try it:
unicrux host add FILE, unicrux host test HOST.`,
		RunE: func(_ *cobra.Command, args []string) error { return runDraft(a, o, args[0], out) },
	}
	flags := command.Flags()
	flags.Var(named(&o.Name, "NAME"), "name", "what to call the host (default: the most telling word of its host name)")
	flags.Var(
		named(&o.Host, "HOSTNAME"),
		"host",
		"the name in its clone URLs, where the document does not say or is wrong",
	)
	flags.Var(
		named(&out, "FILE"),
		"out",
		"write the draft to this file, which must not be there yet (default: print it)",
	)
	return command
}

func runDraft(a *app, o draft.Options, from, out string) error {
	text, err := readDocument(a, from)
	if err != nil {
		return err
	}
	o.From = from
	r, err := draft.Of(text, o)
	if err != nil {
		return err
	}
	summary := render.Draft(a.style(), r, out)
	if out == "" {
		a.tell(render.Draft(a.errStyle(), r, out))
		return a.show(r.Text, render.DraftDocument(r, "", 0))
	}
	batch := a.begin("Write the draft of a description.")
	if out, err = a.station.InFolder(out); err != nil {
		return err
	}
	if err := batch.Create(out, "Write the draft of "+r.Name+".", 0o600, []byte(r.Text), false); err != nil {
		return err
	}
	return a.showChange(batch, summary, render.DraftDocument(r, filepath.Clean(out), number(batch)))
}

// readDocument reads the document of an API from a file or an https address.
func readDocument(a *app, from string) ([]byte, error) {
	if strings.Contains(from, "://") {
		return hostapi.Fetch(a.ctx, from, draft.MaxBytes, hosts.LineTo(a.ctx, a.station, from))
	}
	return regular.Read(from, draft.MaxBytes)
}
