package cli

import (
	"os"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
)

type readyOptions struct {
	secretOptions
	byHandOptions
	purpose           finding.Purpose
	account, by, into string
	inPlace           bool
	program           finding.Program
}

func readyCommand(a *app) *cobra.Command {
	var o readyOptions
	command := &cobra.Command{
		Use:   "ready URL|HOST [REPOSITORY]",
		Short: "From nothing to working: make, trust, register and settle whatever is missing, then clone",
		Long: `Checks the way to a repository, says what it is going to do, and removes one cause after
another until the way is open: it makes a key, compares the host's key, registers yours with the
host, sets how the host is reached. Then it clones.

At a host that nobody has described it asks for what it cannot know: the fingerprint that the host
publishes, which you paste and Unicrux compares; and that you register one line on the host's web
page, while it waits until the host accepts the key. Over HTTPS it asks for the user name and a
token, and keeps them when git's own request for this repository has proved them.

It keeps the transport of the URL. For a host without a URL it takes SSH, or HTTPS where SSH does
not get through on this network, and where the chest has a token while SSH would need a key first.

Each step is a recorded change that "unicrux undo" takes back. Stopped anywhere, it goes on
where it was when it is run again.`,
		RunE: func(c *cobra.Command, args []string) error {
			o.waits = c.Flags().Changed("wait")
			return runReady(a, &o, args)
		},
	}
	flags := command.Flags()
	flags.Var(oneOf(&o.purpose, finding.Clone, finding.Push), "for", "what you want to do (default: clone)")
	flags.Var(named(&o.account, "ACCOUNT"), "as", "the account that is needed")
	flags.Var(oneOf(&o.by, "ssh", "https"), "by",
		"the transport to set up (default: that of the URL)")
	flags.Var(named(&o.into, "DIR"), "into", "clone into this folder (default: named like the repository)")
	flags.Var(oneOf(&o.program, finding.Git, finding.Mercurial), "program",
		"the client to set up and to clone with (default: according to the folder, the URL and the host)")
	flags.BoolVar(&o.inPlace, "in-place", false,
		"and name the crux in git's own output from now on, when ssh does not get through")
	o.secretOptions.addFlags(command)
	o.byHandOptions.addFlags(command)
	chestOption(command, &o.chest)
	return command
}

func runReady(a *app, o *readyOptions, args []string) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	argument, err := asked(place, args, o.by)
	if err != nil {
		return err
	}
	person := a.person(&o.secretOptions, &o.byHandOptions)
	request, err := readyQuestion(a, o, argument, person)
	if err != nil {
		return err
	}
	if err := chooseTransport(a, place, o.by, &request); err != nil {
		return err
	}
	unlock, err := waitAlone(a, place.Registry, argument)
	if err != nil {
		return err
	}
	defer unlock()
	if place.Registry, err = hosts.Open(a.station); err != nil { // another run may have changed it
		return err
	}
	place, way, err := firstLook(a, place, o.by, &request)
	if err == nil && o.by == "" {
		way, err = betterWay(a, place, &request, way)
	}
	if err != nil {
		return err
	}
	if request.Argument != argument && way.Question.Transport == "ssh" {
		a.progress("Going by SSH: " + request.Argument)
	}
	target, err := cloneTarget(a, way, o.into)
	if err != nil {
		return err
	}
	if a.dry {
		return readyDry(a, place, way, person, newClone(a, target))
	}
	plan := ready.Foresee(a.ctx, place, way, person)
	if err := readyGo(a, place, request, person, way, plan, target); err != nil || !o.inPlace {
		return err
	}
	return inPlace(a, way.Question.Host)
}

// firstLook checks the way. Where the host is described only then, by itself, it checks it again.
func firstLook(a *app, place site.Site, by string, request *finding.Request) (site.Site, *finding.Way, error) {
	way, err := diagnose.Check(a.ctx, a.station, place.Registry, *request)
	if err != nil {
		return place, nil, err
	}
	place, kept, err := acceptOffered(a, place, way)
	if kept && err == nil {
		err = chooseTransport(a, place, by, request)
	}
	if kept && err == nil {
		way, err = diagnose.Check(a.ctx, a.station, place.Registry, *request)
	}
	return place, way, err
}

// readyQuestion is what the options ask about a URL or a host.
func readyQuestion(a *app, o *readyOptions, argument string, person ready.Person) (finding.Request, error) {
	request := requestOf(a, o.purpose, o.account, argument, person.Passphrase)
	request.Program = o.program
	if err := o.secretOptions.validate(a); err != nil {
		return request, err
	}
	if o.into == "" {
		return request, nil
	}
	folder, err := a.station.InFolder(o.into)
	request.Into = folder
	return request, err
}

// inPlace lets git start ssh through us.
func inPlace(a *app, host string) error {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return err
	}
	batch := a.begin("Name the crux in git's own output.", host)
	if err := hosts.Set(a.ctx, batch, a.station, registry, a.program(), host, []string{"in-place=on"}); err != nil {
		return err
	}
	if number(batch) != 0 {
		a.say(a.style().Sentences("From now on git's own output shows the crux."))
	}
	return nil
}

// chooseTransport turns a question into one about the transport that is wanted: about the other clone URL
// of the same repository, or about the host alone.
func chooseTransport(a *app, place site.Site, by string, request *finding.Request) error {
	argument := request.Argument
	switch by {
	case "": // as the URL says
		return nil
	case "ssh":
		if url, ok := ready.BySSH(place, argument); ok {
			request.Argument = url
		}
		return nil
	}
	if place.Registry.Alone(argument) != nil {
		request.ByHTTPS = true
		return nil
	}
	url, ok := ready.ByHTTPS(place, argument)
	if !ok {
		return &problem{message: "nothing says what the HTTPS clone URL of " +
			untrusted.Quote(untrusted.Clean(argument)) + " is",
			advice: "Give the HTTPS clone URL of a repository; the description of its host may name none.",
			exit:   exitUsage}
	}
	if url != argument {
		a.progress("Going by HTTPS: " + url)
		request.Argument = url
	}
	return nil
}

// betterWay goes by HTTPS where that serves better.
func betterWay(a *app, place site.Site, request *finding.Request, way *finding.Way) (*finding.Way, error) {
	other, err := ready.Better(a.ctx, place, *request, way)
	if err != nil || other == nil {
		return way, err
	}
	why := "SSH does not work here (" + way.Crux.Code.String() + ")"
	if other.Kept {
		why = "The chest has a token for " + other.Way.Question.Host
	}
	a.progress(why + ". Going by HTTPS: " + other.URL)
	*request = other.Request
	return other.Way, nil
}

// waitAlone makes runs for the same host wait for each other, so that two make one key.
func waitAlone(a *app, registry *hosts.Registry, argument string) (unlock func(), err error) {
	name := argument
	if parsed, err := address.Parse(argument); err == nil {
		name = parsed.Host
	}
	if d, err := registry.Find(name); err == nil { // by whichever of its names
		name = d.Name
	}
	return a.station.Alone(a.ctx, "ready "+name, func() {
		a.progress("Another unicrux is at work for " + name + ". Waiting for it.")
	})
}

// cloneTarget settles where the clone goes; the folder is empty for a question about a host.
func cloneTarget(a *app, way *finding.Way, into string) (gitlink.Target, error) {
	parsed, err := address.Parse(way.Question.URL)
	if way.Question.Repo == "" || err != nil {
		if into != "" && err == nil {
			return gitlink.Target{}, usage("--into needs a clone URL")
		}
		return gitlink.Target{}, nil
	}
	return gitlink.CloneTarget(a.ctx, a.station, string(way.Question.Program), parsed, into)
}

func readyDry(a *app, place site.Site, way *finding.Way, person ready.Person, clone string) error {
	batch, err := ready.DryRun(a.ctx, place, way, person, clone)
	if err != nil {
		return err
	}
	return a.showChange(batch, "", nil)
}

// newClone is the folder of a clone that is to be made, as people write it; empty for none.
func newClone(a *app, target gitlink.Target) string {
	if target.Folder == "" || target.Cloned {
		return ""
	}
	return a.station.Tilde(target.Folder)
}

func readyGo(a *app, place site.Site, request finding.Request, person ready.Person, way *finding.Way,
	plan []ready.Foreseen, target gitlink.Target) error {
	s := a.style()
	clone := newClone(a, target)
	if len(plan) > 0 || way.IsOpen() && clone != "" { // else there is nothing that could be done
		a.say(render.ReadyPlan(s, way, plan, clone))
	}
	gap := ""
	opening, err := ready.Open(a.ctx, place, request, person,
		func(step ready.Step) { gap = "\n"; a.say(render.ReadyStep(s, step)) })
	if err != nil {
		return err
	}
	a.say(gap)
	a.say(render.Way(s, opening.Way))
	if !opening.Way.IsOpen() {
		a.say(render.Stopped(s, opening.Way))
		return readyEnd(a, opening, plan, target.Folder, false)
	}
	if clone == "" {
		if len(opening.Steps) == 0 {
			a.say("\n" + s.Sentences("Open already."))
		}
		if target.Cloned {
			a.say("\n" + s.Sentences("The clone is there already: "+a.station.Tilde(target.Folder)))
		}
		return readyEnd(a, opening, plan, target.Folder, false)
	}
	if err := runClone(a, place, opening, request, target); err != nil {
		return err
	}
	a.say(s.Sentences("Cloned into " + clone + "."))
	if opening.Way.Question.Program == finding.Git {
		if err := nameAuthor(a, place, target.Folder); err != nil {
			return err
		}
	}
	return readyEnd(a, opening, plan, target.Folder, true)
}

func runClone(a *app, place site.Site, opening *ready.Opening, request finding.Request,
	target gitlink.Target) (err error) {
	url := request.Argument
	if opening.URL != "" {
		url = opening.URL
	}
	in := a.In
	if !a.mayAsk() {
		in = nil
	}
	a.echo() // git asks for what may be seen as well
	out := a.Out
	if _, isFile := out.(*os.File); !isFile || a.json {
		out = a.Err
	}
	if err := holdKey(a, place, opening.Way, request.Ask); err != nil {
		return err
	}
	a.say("\n")
	a.progress("Cloning into " + a.station.Tilde(target.Folder) + ".")
	terms := gitlink.Attached{Program: string(opening.Way.Question.Program), In: in, Out: out, Err: a.Err}
	return gitlink.Clone(a.ctx, a.station, terms, url, target, a.Columns > 0 && !a.quiet)
}

// hold lets the holder have the key whose passphrase was asked for the check, because ssh
// would ask for it once more.
func holdKey(a *app, place site.Site, way *finding.Way, ask sshway.Asker) error {
	if way.Unlocked == "" {
		return nil
	}
	pair, err := sshkey.Load(way.Unlocked)
	if err != nil {
		return err
	}
	passphrase, err := ask(pair)
	if err != nil {
		return err
	}
	batch := a.begin("Hold " + pair.Name() + " unlocked.")
	loaded, err := keys.Load(a.ctx, place, batch, keys.Loading{Pair: pair, Passphrase: passphrase,
		HostName: way.HostName})
	if err == nil {
		a.say("\n" + a.style().Sentences(loaded.Words(pair.Name())))
	}
	return err
}

func readyEnd(a *app, opening *ready.Opening, plan []ready.Foreseen, folder string, cloned bool) error {
	if a.json {
		if err := a.show("", render.ReadyDocument(opening, plan, folder, cloned)); err != nil {
			return err
		}
	}
	if !opening.Way.IsOpen() {
		return &told{exitCrux}
	}
	return nil
}
