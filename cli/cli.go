// Package cli is the command line: it turns words into calls of the core and hands what
// comes back to package render. It decides nothing that is worth a test of its own.
package cli

import (
	"errors"
	"io"
	"log/slog"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/memory"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/waiting"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

// The exit codes of every command.
const (
	exitDone    = 0 // done; or: the way is open
	exitCrux    = 1 // a crux was found; or: the host or a rule refused
	exitUsage   = 2 // the command line is wrong
	exitFailure = 3 // a file, a device or the program itself failed
	exitAsk     = 4 // something had to be asked and could not be
	exitStopped = 5 // stopped by the person
)

// defaultTimeout bounds each step on the network.
const defaultTimeout = 10 * time.Second

// IO is what a run of the program gets from outside.
type IO struct {
	Args     []string // without the program's name
	Environ  []string
	In       *os.File
	Read     []byte // what was read from In already
	Out, Err io.Writer
	// Columns is the width of the terminal that Out is, or 0 when it is none.
	Columns int
	// ErrColumns is that of Err.
	ErrColumns int
}

// System is the IO of this process.
func System() IO {
	s := IO{Args: os.Args[1:], Environ: os.Environ(), In: os.Stdin, Out: os.Stdout, Err: os.Stderr}
	s.Columns, s.ErrColumns = columnsOf(os.Stdout), columnsOf(os.Stderr)
	return s
}

// columnsOf is the width of the terminal that a file is; 0 where it is none.
func columnsOf(file *os.File) int {
	if !term.IsTerminal(int(file.Fd())) {
		return 0
	}
	if width, _, err := term.GetSize(int(file.Fd())); err == nil && width > 0 {
		return width
	}
	return render.DefaultWidth
}

// An app is one run: what came from outside, the options of every command, the workstation.
type app struct {
	*prompter
	dry, yes     bool
	timeout      time.Duration
	station      *workstation.Station
	begun        []*workstation.Batch
	untilStopped bool   // the command ends well by being stopped
	version      bool   // --version
	echo         func() // lets the terminal show again what is typed
	password     passwordSource
}

// Run runs one command and returns the exit code.
func Run(io IO) int {
	memory.Private() // secrets pass through most commands
	ctx, stopped := untilSignal()
	a := &app{prompter: &prompter{console: &console{IO: io}, ctx: ctx}, timeout: defaultTimeout, echo: func() {}}
	defer func() { a.echo() }()
	// git waits for it, and its options are ssh's
	if len(io.Args) >= 2 && io.Args[0] == "for-git" && io.Args[1] == "ssh" {
		return sshForGit(a, io.Args[2:])
	}
	err := a.execute()
	if !stopped() {
		return a.finish(err)
	}
	if err == nil && a.untilStopped {
		return exitDone
	}
	if err == nil {
		a.progress("Stopped. The command had done all of its work by then.")
		return exitStopped
	}
	return a.finish(errStopped)
}

func (a *app) execute() error {
	if len(a.Args) == 3 && a.Args[0] == "for-git" && a.Args[1] == "credential" { // git waits for it each time
		return runCredential(a, a.Args[2])
	}
	root := a.root()
	root.SetArgs(a.Args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(a.ctx)
	var wrong *problem
	if errors.As(err, &wrong) && wrong.exit == exitUsage && wrong.advice == usageAdvice {
		if found, _, err := root.Find(a.Args); err == nil && found != root {
			wrong.advice = found.CommandPath() + " --help shows how it is used."
		}
	}
	return err
}

// here describes the workstation. Nobody waits for another run any longer once this one is to stop.
func (a *app) here() (*workstation.Station, error) {
	station, err := workstation.Here(a.Environ)
	if err == nil {
		station.Stop = a.ctx.Done()
	}
	return station, err
}

// begin begins what a command changes, for some hosts, and remembers it for when the command fails.
func (a *app) begin(words string, hosts ...string) *workstation.Batch {
	batch := a.station.Begin(words, a.dry, hosts...)
	a.begun = append(a.begun, batch)
	return batch
}

// finish prints an error, on stdout as a document when that was asked for, and what was done before it.
func (a *app) finish(err error) int {
	if err == nil {
		return exitDone
	}
	var told *told
	if errors.As(err, &told) {
		return told.exit
	}
	problem := asProblem(err)
	changes := a.changed()
	if a.json || slices.Contains(a.Args, "--json") { // the command line may not have been read that far
		_, _ = io.WriteString(a.Out,
			render.JSON(render.ErrorDocument(problem.codeOf(), problem.message, problem.advice, problem.exit, changes)))
		return problem.exit
	}
	a.tell(render.Problem(a.errStyle(), problem.message, problem.advice) + render.DoneBefore(a.errStyle(), changes))
	return problem.exit
}

// changed lists what this run has changed so far.
func (a *app) changed() []workstation.Change {
	var list []workstation.Change
	for _, batch := range a.begun {
		if change := batch.Change(); change.ID > 0 && len(change.Steps) > 0 {
			list = append(list, change)
		}
	}
	return list
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "unicrux",
		Short: "Gets this workstation and a code host to trust each other",
		Long: `Unicrux makes keys, registers them with code hosts, configures how each host is reached,
and names the one cause when a clone or push fails.`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(command *cobra.Command, _ []string) (err error) {
			if a.station, err = a.here(); err != nil {
				return err
			}
			// ssh waits for it, git, or a shell
			for _, prefix := range []string{"holder", "for-git", cobra.ShellCompRequestCmd} {
				if strings.HasPrefix(command.CommandPath(), "unicrux "+prefix) {
					return nil
				}
			}
			if a.shows() {
				a.wait = &waiter{c: a.console}
				a.ctx = waiting.With(a.ctx, a.wait.begin)
				a.echo = noEcho(a.In) // what is typed while the command works would stand in the middle of its output
			}
			runTidy(a)
			return nil
		},
	}
	flags := root.PersistentFlags()
	flags.BoolVar(&a.json, "json", false, "print one JSON document")
	flags.BoolVar(&a.plain, "plain", false, "no colour, no drawing characters")
	a.color = "auto"
	flags.Var(oneOf(&a.color, "auto", "always", "never"), "color", "whether to use colours")
	flags.BoolVar(&a.dry, "dry-run", false, "say what would change, change nothing")
	flags.BoolVar(&a.yes, "yes", false, "do what would be asked about")
	flags.BoolVar(&a.noInput, "no-input", false, "never ask")
	flags.BoolVar(&a.quiet, "quiet", false, "say less")
	flags.BoolVar(&a.verbose, "verbose", false, "say more")
	lasts(flags, &a.timeout, "timeout", defaultTimeout, "for each step on the network")
	root.SetFlagErrorFunc(badOption)
	root.CompletionOptions.DisableDefaultCmd = true // ours has our own page
	// Not the library's own: its template alone would make the program a fifth larger.
	root.Flags().BoolVar(&a.version, "version", false, "show the version")
	root.AddGroup(&cobra.Group{ID: "daily", Title: "Every day"}, &cobra.Group{ID: "things", Title: "Things"},
		&cobra.Group{ID: "keep", Title: "Keeping"},
		&cobra.Group{ID: "many", Title: "Many workstations"}, &cobra.Group{ID: "try", Title: "Try it"})
	cobra.EnableCommandSorting = false // they are in the order of their use
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { _ = showHelp(a, c) })
	root.SetHelpCommand(helpCommand(a, root))
	root.AddCommand(forGitCommand(a), forEngineCommand(a))
	if len(a.Args) > 0 && a.Args[0] == "for-git" { // git waits: nothing else is built
		demandArguments(root)
		demandSubcommands(root)
		return root
	}
	for _, group := range []struct {
		id       string
		commands []*cobra.Command
	}{
		{"daily", []*cobra.Command{lookCommand(a), readyCommand(a), checkCommand(a), explainCommand(a)}},
		{"things", []*cobra.Command{keyCommand(a), tokenCommand(a), hostCommand(a), repoCommand(a), remoteCommand(a),
			cardCommand(a)}},
		{"keep", []*cobra.Command{chestCommand(a), holderCommand(a), changesCommand(a), undoCommand(a)}},
		{"many", []*cobra.Command{auditCommand(a), applyCommand(a)}},
		{"try", []*cobra.Command{demoCommand(a), practiceCommand(a), completionCommand(a), versionCommand(a)}},
	} {
		for _, command := range group.commands {
			command.GroupID = group.id
			root.AddCommand(command)
		}
	}
	complete(a, root)
	demandArguments(root)
	demandSubcommands(root)
	help := root.RunE
	root.RunE = func(c *cobra.Command, args []string) error {
		if a.version && len(args) == 0 {
			return showVersion(a)
		}
		return help(c, args)
	}
	return root
}

// demandSubcommands makes a noun with a verb that does not exist a wrong command line; one without its verb shows its
// page.
func demandSubcommands(command *cobra.Command) {
	for _, child := range command.Commands() {
		demandSubcommands(child)
	}
	if !command.HasSubCommands() {
		return
	}
	alone := command.RunE
	if alone != nil {
		command.Annotations = alsoAlone
	}
	command.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 && alone != nil { // one that also does something by itself
			return alone(c, args)
		}
		if len(args) == 0 {
			return c.Help()
		}
		if near := meant(c, args[0]); near != "" {
			return usage(
				"%s has no command %s. Did you mean %s?",
				c.CommandPath(),
				untrusted.Quote(untrusted.Clean(args[0])),
				near,
			)
		}
		return usage("%s has no command %s; it has: %s", c.CommandPath(), untrusted.Quote(untrusted.Clean(args[0])),
			strings.Join(verbs(c), ", "))
	}
	command.Args, command.DisableFlagsInUseLine = cobra.ArbitraryArgs, alone == nil
}

func verbs(command *cobra.Command) []string {
	var names []string
	for _, child := range command.Commands() {
		if child.IsAvailableCommand() {
			names = append(names, child.Name())
		}
	}
	return names
}

// host is a described host by its name, USER@HOST or clone URL, and the registry that has it.
func (a *app) host(name string) (*hosts.Registry, *describe.Description, error) {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return nil, nil, err
	}
	d, err := registry.Find(name)
	return registry, d, err
}

// place gathers what the steps of the core need.
func (a *app) place() (site.Site, error) {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return site.Site{}, err
	}
	place := site.Site{Station: a.station, Registry: registry, Timeout: a.timeout, Waits: a.waits, Log: a.trace(),
		Program: a.program(), StartHolder: a.startHolder, Trying: trying(a),
		SignIn: a.signInByPassword}
	if a.mayAsk() {
		place.Choose = a.choose
	}
	return place, nil
}

// waits says that a host asks us to wait.
func (a *app) waits(d time.Duration) {
	a.progress("The host asks us to wait " + d.Round(time.Second).String() + ".")
}

// trace is a structured trace on stderr, for --verbose.
func (a *app) trace() *slog.Logger {
	if !a.verbose {
		return nil
	}
	return slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: slog.LevelDebug}))
}

// showChange prints the result of a command that changes something: what would change in
// a dry run, else what was done and how to take it back.
func (a *app) showChange(batch *workstation.Batch, text string, document any) error {
	if batch.Dry {
		return a.show(render.Plan(a.style(), batch.Differences(), a.station.Tilde),
			render.PlanDocument(batch.Differences()))
	}
	if a.quiet && !a.json {
		return nil
	}
	return a.show(text, document)
}

// showDone is [app.showChange] of a command that has nothing to show but a sentence.
func (a *app) showDone(batch *workstation.Batch, words string) error {
	return a.showChange(batch, a.style().Sentences(words), render.DoneDocument(words, number(batch), time.Time{}))
}

// number is how the documents of changes name them.
func number(batch *workstation.Batch) int { return batch.Change().ID }
