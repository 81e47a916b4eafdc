package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/demo"
	"anchorage.example/unicrux/render"
	"anchorage.example/unicrux/render/document"
	"anchorage.example/unicrux/standin"
)

func practiceCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "practice", Short: "Practice hosts to try things on: serve, faults"}
	command.AddCommand(practiceServe(a), practiceFaults(a))
	return command
}

// practiceHosts are those of the made-up world: one with a full interface, one whose interface
// is of another shape, one without any.
var practiceHosts = []string{"forge", "saltmarsh", "lantern"}

func practiceServe(a *app) *cobra.Command {
	var o standin.Options
	command := &cobra.Command{
		Use:   "serve [HOST…]",
		Short: "Run practice hosts on this computer until they are stopped",
		Long: `Runs the practice hosts: git over SSH, and the accounts and repositories of a made-up
cooperative. The forge has a full API, the saltmarsh one of another shape, and the lantern
none: there keys are pasted on a web page. They listen on this computer alone, and what
is in them is thrown away when they end, unless --folder names a place.`,
		Args:      cobra.OnlyValidArgs,
		ValidArgs: practiceHosts,
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				args = practiceHosts
			}
			return servePractice(a, o, args)
		},
	}
	command.Flags().IntVar(&o.SSHPort, "port", 0, "`PORT` for SSH, of the first host (default: any free one)")
	command.Flags().IntVar(&o.WebPort, "web-port", 0, "`PORT` for the API of the first host (default: any free one)")
	command.Flags().Var(&wordList{to: &o.Faults, is: "CODE"}, "fault",
		"do this wrong; \"unicrux practice faults\" lists what (may be given several times)")
	command.Flags().Var(named(&o.Folder, "DIR"), "folder", "keep everything in this folder (default: a temporary one)")
	return command
}

func practiceFaults(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "faults",
		Short: "List the faults that a practice host can have",
		Long: `Lists the faults that a practice host can have, by "practice serve --fault CODE", and the
crux that each leads to.`,
		RunE: func(*cobra.Command, []string) error {
			list := standin.Faults()
			views := make([]render.FaultView, len(list))
			for i, f := range list {
				views[i] = render.FaultView{Code: f.Code, By: f.By, Does: f.Does}
			}
			return a.show(render.Faults(a.style(), views), render.FaultsDocument(views))
		},
	}
}

func servePractice(a *app, o standin.Options, names []string) (err error) {
	if o.Folder == "" {
		if o.Folder, err = os.MkdirTemp("", "unicrux-practice-"); err != nil {
			return err
		}
		defer os.RemoveAll(o.Folder) // it is in the folder for temporary files
	}
	var views []render.PracticeView
	folder := o.Folder
	for i, name := range names {
		o.Folder = filepath.Join(folder, name)
		if err := os.MkdirAll(o.Folder, 0o700); err != nil {
			return err
		}
		if i > 0 {
			o.SSHPort, o.WebPort = 0, 0
		}
		host, err := demo.Serve(name, o)
		if err != nil {
			return faultHint(err, o.Faults)
		}
		defer func() { err = errors.Join(err, host.Close()) }()
		views = append(views, practiceView(name, host))
	}
	if err := a.show(render.Practice(a.style(), views), render.PracticeDocument(views)); err != nil {
		return err
	}
	a.untilStopped = true
	<-a.ctx.Done()
	return nil
}

// faultHint names a fault that may have been meant.
func faultHint(err error, codes []string) error {
	if !errors.Is(err, standin.ErrNoFault) {
		return err
	}
	var known []string
	for _, fault := range standin.Faults() {
		known = append(known, fault.Code)
	}
	return usage("a practice host has no fault %s: unicrux practice faults lists those that it has%s",
		strings.Join(codes, ", "), nearestOf(codes[0], known))
}

func practiceView(name string, host *standin.Host) render.PracticeView {
	view := render.PracticeView{Name: name, Title: host.Title(), SSHPort: host.SSHPort(), WebPort: host.WebPort(),
		Description: host.DescriptionFile(), Account: host.Owner(), CloneURL: host.CloneURL(host.FirstRepository())}
	if _, err := os.Stat(host.TokenFile()); err == nil {
		view.Token, view.CloneHTTPS = host.TokenFile(), host.CloneHTTPS(host.FirstRepository())
	}
	if password, code := host.Password(); password != "" {
		view.SignIn = "account " + host.Owner() + ", password “" + password + "”, code of the second step " + code
	}
	return view
}

func demoCommand(a *app) *cobra.Command {
	var stay bool
	command := &cobra.Command{
		Use:   "demo",
		Short: "The whole journey on a practice host, in a throwaway home",
		Long: `Starts a practice host, makes a throwaway home, and goes from nothing to a pushed commit
with the real git and ssh. Nothing of yours is read or changed, and nothing is left behind.`,
		RunE: func(*cobra.Command, []string) error { return runDemo(a, stay) },
	}
	command.Flags().BoolVar(&stay, "stay", false, "keep host and home at the end, and say how to use them")
	return command
}

func runDemo(a *app, stay bool) (err error) {
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
	record, err := runTravel(a, journey)
	if err != nil {
		return err
	}
	view, err := journey.HostView(a.ctx)
	if err != nil {
		return err
	}
	record.Worked = record.Worked && view.Same()
	s := a.style()
	if err := a.show(render.DemoEnd(s, record, view.Branch, view.Commit, view.Subject, view.Author),
		record); err != nil {
		return err
	}
	if stay {
		a.tell(render.Stay(a.errStyle(), journey.Home, journey.SSHCommand(), journey.Host.TokenFile()))
		<-a.ctx.Done()
	}
	if !record.Worked {
		return &told{exitCrux}
	}
	return nil
}

// runTravel runs the steps, each with its output as it comes.
func runTravel(a *app, journey *demo.Journey) (*document.Demo, error) {
	out, ok := a.Out.(*os.File)
	if !ok || a.json {
		out = os.Stderr
	}
	record := &document.Demo{Schema: document.Schema("demo"), Worked: true, Steps: []document.DemoStep{}}
	for _, step := range journey.Steps() {
		_, _ = fmt.Fprint(out, a.style().DemoStep(step.Say, step.Line))
		exit, err := journey.Run(a.ctx, step, out, out)
		if err != nil {
			return nil, err
		}
		done := document.DemoStep{Command: step.Line, Exit: exit, Worked: step.Worked(exit)}
		record.Steps, record.Worked = append(record.Steps, done), record.Worked && done.Worked
	}
	return record, nil
}
