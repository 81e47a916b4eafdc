package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/gather"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render"
	"anchorage.example/unicrux/render/document"
)

// gatherOptions are the options of audit gather.
type gatherOptions struct {
	expect, policy, against, out, metrics string
}

func gatherCommand(a *app) *cobra.Command {
	var o gatherOptions
	command := &cobra.Command{
		Use:   "gather FILE|DIR...",
		Short: "Make one of the reports of many machines, the silent ones first",
		Long: `Reads the reports that audit wrote on many machines, in files (one after another, or one on
each line), in folders and what is below them, or on standard input (-), and tells what they
come to: which machines are silent, whose report is old or incomplete, what is to be mended on
how many, which keys are on several. Of two reports of one machine the newer one counts.

What was found on a machine that is silent now, or whose report is incomplete or old, does not
count as gone. It ends with 0 where nothing must be mended, with 1 where something must, and
with 3 where a report could not be read or does not cover its machine.`,
		RunE: func(_ *cobra.Command, args []string) error { return o.run(a, args) },
	}
	flags := command.Flags()
	flags.Var(named(&o.expect, "FILE"), "expect", "names of the machines that should report, one on each line")
	flags.Var(named(&o.policy, "FILE"), "policy", "how old reports may be, and which exceptions there are")
	flags.Var(named(&o.against, "FILE"), "against", "tell what is new, still there and gone since this gathering")
	flags.Var(named(&o.out, "FILE"), "out", "write what they come to into this file, as one line of JSON")
	flags.Var(named(&o.metrics, "FILE"), "metrics", "write figures without names into this file, for a metrics store")
	return command
}

func (o *gatherOptions) run(a *app, sources []string) error {
	options := gather.Options{Now: a.station.Now()}
	var err error
	if o.policy != "" {
		if options.Policy, err = policy.ReadFile(a.station, o.policy); err != nil {
			return err
		}
	}
	if options.Expect, err = expected(o.expect); err != nil {
		return err
	}
	old, err := olderGathering(o.against)
	if err != nil {
		return err
	}
	g := gather.New(options)
	for _, source := range sources {
		if err := a.gatherFrom(g, source); err != nil {
			return err
		}
	}
	t := g.Done()
	var drift *gather.Drift
	if old != nil {
		d := t.Against(old.When, render.BeforeOf(old))
		drift = &d
	}
	var d any
	if a.json || o.out != "" { // of many machines it is large
		d = render.GatherDocument(t, drift)
	}
	if err := errors.Join(writeReport(o.out, func() string { return render.Compact(d) }, 0o600),
		writeReport(o.metrics, func() string { return render.GatherMetrics(t) }, 0o644),
		a.show(render.Gather(a.style(), t, drift), d)); err != nil {
		return err
	}
	switch {
	case !t.Whole():
		return &told{exitFailure}
	case t.Wrong():
		return &told{exitCrux}
	}
	return nil
}

// gatherFrom adds the reports of a file, a folder, or standard input.
func (a *app) gatherFrom(g *gather.Gathering, source string) error {
	if source == "-" {
		addReports(g, "", a.In)
		return nil
	}
	info, err := os.Stat(source)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		addFile(g, source)
		return nil
	}
	return filepath.WalkDir(source, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			g.Wrong(path, untrusted.Clean(err.Error()))
			return nil
		case a.ctx.Err() != nil:
			return a.ctx.Err()
		case !d.IsDir() && slices.Contains([]string{".json", ".ndjson"}, filepath.Ext(path)):
			addFile(g, path)
		}
		return nil
	})
}

func addFile(g *gather.Gathering, path string) {
	shown, err := filepath.Abs(path)
	if err != nil {
		shown = path
	}
	f, err := regular.OpenReader(path)
	if err != nil {
		g.Wrong(shown, untrusted.Clean(err.Error()))
		return
	}
	defer f.Close() // opened for reading
	addReports(g, shown, f)
}

// addReports adds the reports that stand one after another in a text.
func addReports(g *gather.Gathering, file string, from io.Reader) {
	each := &perReport{from: from}
	decoder := json.NewDecoder(each)
	for n := 1; ; n++ {
		var d document.Audit
		each.left = mostOfReport
		err := decoder.Decode(&d)
		switch {
		case errors.Is(err, io.EOF) && n > 1:
			return
		case errors.Is(err, io.EOF):
			g.Wrong(file, "it is empty")
			return
		case err != nil:
			g.Wrong(file, "it is no report: "+untrusted.Clean(err.Error()))
			return
		case d.Schema != document.Schema("audit"):
			g.Wrong(file, "it is no report of audit")
			return
		}
		g.Add(render.ReportOf(file, &d))
	}
}

// perReport reads on as long as one report is not too large: there may be any number of them.
type perReport struct {
	from io.Reader
	left int64
}

func (p *perReport) Read(into []byte) (int, error) {
	if p.left <= 0 {
		return 0, fmt.Errorf("%w (%d bytes)", regular.ErrTooLarge, mostOfReport)
	}
	n, err := p.from.Read(into)
	p.left -= int64(n)
	return n, err
}

// mostOfGathered bounds what was gathered before.
const mostOfGathered = 4 << 30

// expected reads names of machines, one on each line; "#" begins a comment.
func expected(path string) ([]string, error) {
	if path == "" {
		return nil, nil
	}
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return nil, err
	}
	var names []string
	for line := range strings.Lines(string(text)) {
		name, _, _ := strings.Cut(line, "#")
		if name = untrusted.Clean(name); name != "" {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil, usage("%s names no machine: one on each line is needed", path)
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// olderGathering reads what was gathered before; nil for no file.
func olderGathering(path string) (*document.Gather, error) {
	if path == "" {
		return nil, nil
	}
	text, err := regular.Read(path, mostOfGathered)
	if err != nil {
		return nil, err
	}
	var d document.Gather
	if err := json.Unmarshal(text, &d); err != nil || d.Schema != document.Schema("gather") {
		return nil, usage("%s is no gathering: --against reads what audit gather wrote with --out or --json", path)
	}
	return &d, nil
}

func auditSchemaCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the SQL by which PostgreSQL keeps the reports of many machines",
		Long: `Prints tables and views for PostgreSQL 12 and newer: reports are loaded with \copy, a line each,
and the views tell what audit gather tells, and more: silent machines, findings, keys, keys on
several machines, what ends when, findings over time. The first lines say how.`,
		Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error { return a.print(gather.Schema) },
	}
}
