package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"unicrux/demo"
	"unicrux/render"
	"unicrux/standin"
)

func (a *app) practiceCommand() *cobra.Command {
	command := &cobra.Command{Use: "practice", Short: "A practice host to try things on"}
	command.AddCommand(a.practiceServe())
	return command
}

func (a *app) practiceServe() *cobra.Command {
	var o standin.Options
	command := &cobra.Command{
		Use:   "serve",
		Short: "Run a practice host on this computer until it is stopped",
		Long: `Runs a practice host: git over SSH, an interface over HTTPS, and the accounts and
repositories of a made-up cooperative. It listens on this computer alone, and what is in it
is thrown away when it ends, unless --folder names a place.`,
		Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			host, err := standin.Start(o)
			if err != nil {
				return err
			}
			if err := a.show(a.style().Practice(practiceView(host)), render.PracticeDocument(practiceView(host))); err != nil {
				return err
			}
			<-a.ctx.Done()
			return host.Close()
		},
	}
	command.Flags().IntVar(&o.SSHPort, "port", 0, "for SSH (default: any free one)")
	command.Flags().IntVar(&o.WebPort, "web-port", 0, "for the interface (default: any free one)")
	command.Flags().StringVar(&o.Folder, "folder", "", "keep everything in this folder (default: a temporary one)")
	return command
}

func practiceView(host *standin.Host) render.PracticeView {
	return render.PracticeView{Title: host.Title(), SSHPort: host.SSHPort(), WebPort: host.WebPort(),
		Description: host.DescriptionFile(), Token: host.TokenFile(), Account: host.Owner(), CloneURL: host.CloneURL("buoys/drift-model")}
}

func (a *app) demoCommand() *cobra.Command {
	var stay bool
	command := &cobra.Command{
		Use:   "demo",
		Short: "The whole journey on a practice host, in a throwaway home",
		Long: `Starts a practice host, makes a throwaway home, and goes from nothing to a pushed commit
with the real git and ssh. Nothing of yours is read or changed, and nothing is left behind.`,
		Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error { return a.demo(stay) },
	}
	command.Flags().BoolVar(&stay, "stay", false, "keep host and home at the end, and say how to use them")
	return command
}

func (a *app) demo(stay bool) (err error) {
	program, err := os.Executable()
	if err != nil {
		return err
	}
	journey, err := demo.Start(program, a.Environ)
	if err != nil {
		return err
	}
	defer func() {
		if closeErr := journey.Close(); err == nil {
			err = closeErr
		}
	}()
	record, err := a.travel(journey)
	if err != nil {
		return err
	}
	view, err := journey.HostView(a.ctx)
	if err != nil {
		return err
	}
	record.Worked = record.Worked && view.Same()
	s := a.style()
	if err := a.show(s.DemoEnd(record, view.Branch, view.Commit, view.Subject, view.Author), record); err != nil {
		return err
	}
	if stay {
		_, _ = io.WriteString(a.Err, s.Stay(journey.Home, journey.SSHCommand(), journey.Host.TokenFile()))
		<-a.ctx.Done()
	}
	if !record.Worked {
		return &told{exitCrux}
	}
	return nil
}

// travel runs the steps, each with its output as it comes.
func (a *app) travel(journey *demo.Journey) (*render.DemoDocument, error) {
	out, ok := a.Out.(*os.File)
	if !ok || a.json {
		out = os.Stderr
	}
	record := &render.DemoDocument{Schema: "unicrux.demo/1", Worked: true}
	for _, step := range journey.Steps() {
		_, _ = fmt.Fprint(out, a.style().DemoStep(step.Say, step.Line))
		exit, err := journey.Run(a.ctx, step, out, out)
		if err != nil {
			return nil, err
		}
		record.Add(step.Line, exit, step.Worked(exit))
	}
	return record, nil
}
