package cli

import (
	"encoding/json"
	"errors"
	"io/fs"
	"runtime/debug"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
	"anchorage.example/unicrux/render/document"
)

// auditOptions are the options of audit.
type auditOptions struct {
	homes           []string
	all             bool
	policy, against string
	out, metrics    string
	html            string
}

func auditCommand(a *app) *cobra.Command {
	var o auditOptions
	command := &cobra.Command{
		Use:   "audit",
		Short: "Look for what the machine's policy asks: in your home, or as root in all homes",
		Long: `Looks at the keys, tokens, settings and stored host keys of homes, and tells what is not as
the policy of the machine asks (/etc/unicrux/policy.toml; without one, what is usual). Nobody
is asked over the network, no program is started, nothing is changed, and no secret is read: of
a private key only what comes before its secret part. root looks at each home with its
owner's rights.

It ends with 0 where nothing must be mended, with 1 where something must, and with 3 where a
home could not be looked at as a whole and the policy does not excuse it.`,
		RunE: func(_ *cobra.Command, _ []string) error { return o.run(a) },
	}
	command.AddCommand(gatherCommand(a), auditSchemaCommand(a))
	flags := command.Flags()
	flags.Var(&wordList{to: &o.homes, is: "DIR"}, "home", "a home to look at; may be given several times")
	flags.BoolVar(&o.all, "all-homes", false, "look at the homes of all people of this machine, and at its own files")
	flags.Var(named(&o.policy, "FILE"), "policy", "ask for what this policy says, instead of the machine's")
	flags.Var(named(&o.against, "FILE"), "against", "tell what is new, still there and gone since this report")
	flags.Var(named(&o.out, "FILE"), "out", "write the report into this file, as one line of JSON")
	flags.Var(named(&o.html, "FILE"), "html", "write a page for a browser into this file: one file, no script, no request")
	flags.Var(named(&o.metrics, "FILE"), "metrics", "write figures without names into this file, for a metrics store")
	return command
}

func (o *auditOptions) run(a *app) error {
	options, err := o.options(a)
	if err != nil {
		return err
	}
	old, err := olderReport(o.against)
	if err != nil {
		return err
	}
	spareCollector(len(options.Homes))
	report, err := audit.Look(a.ctx, a.station, options)
	if err != nil {
		return err
	}
	var drift *audit.Drift
	if old != nil {
		if old.Machine.ID != nil && report.ID != "" && *old.Machine.ID != report.ID {
			return usage("%s is the report of another machine, %s: two reports of one machine are compared", o.against,
				untrusted.Clean(old.Machine.Name))
		}
		d := report.Against(old.When, findingsOf(old))
		drift = &d
	}
	d := render.AuditDocument(report, drift)
	if err := errors.Join(writeReport(o.out, func() string { return render.Compact(d) }, 0o600),
		writeReport(o.metrics, func() string { return render.AuditMetrics(report) }, 0o644),
		writeReport(o.html, func() string { return render.AuditPage(report, drift) }, 0o600),
		a.show(render.Audit(a.style(), report, drift), d)); err != nil {
		return err
	}
	switch {
	case !report.Complete && !report.Excused:
		return &told{exitFailure}
	case report.Wrong():
		return &told{exitCrux}
	}
	return nil
}

// spareCollector lets the garbage collector wait longer, as this process ends soon: but not for more memory than a
// machine with that many homes can spare.
func spareCollector(homes int) {
	const seldom, least, eachHome = 400, 84 << 20, 30 << 10
	debug.SetGCPercent(seldom)
	debug.SetMemoryLimit(max(least, int64(homes)*eachHome))
}

// options says which homes are looked at, and by which policy.
func (o *auditOptions) options(a *app) (audit.Options, error) {
	var options audit.Options
	if o.all {
		places := apply.Here(a.station)
		options.Machine = &places
	}
	var err error
	if o.policy != "" {
		options.Policy, err = policy.ReadFile(a.station, o.policy)
	} else {
		options.Policy, err = policy.Read(a.station)
	}
	switch {
	case err != nil:
		return options, err
	case o.all && len(o.homes) > 0:
		return options, usage("audit looks at --all-homes or at each --home, not at both")
	case o.all:
		options.Homes, err = accounts.Homes(a.ctx)
	case len(o.homes) == 0:
		options.Homes, options.Own = []accounts.Home{accounts.Own(a.station.Person)}, a.Environ
	}
	for _, path := range o.homes {
		home, problem := accounts.At(path)
		if problem != nil {
			return options, problem
		}
		options.Homes = append(options.Homes, home)
	}
	return options, err
}

// writeReport makes a text and puts it into a file, all at once, where one was asked for. A report is for its owner's
// eyes alone; figures are for whoever collects them.
func writeReport(path string, text func() string, mode fs.FileMode) error {
	if path == "" {
		return nil
	}
	return workstation.Replace(path, []byte(text()), mode)
}

// mostOfReport bounds the report of a machine.
const mostOfReport = 64 << 20

// olderReport reads a report that was written before; nil for no file.
func olderReport(path string) (*document.Audit, error) {
	if path == "" {
		return nil, nil
	}
	d, _, err := readReport(path)
	return d, err
}

// readReport reads a report, and its text.
func readReport(path string) (*document.Audit, []byte, error) {
	text, err := regular.Read(path, mostOfReport)
	if err != nil {
		return nil, nil, err
	}
	var d document.Audit
	if err := json.Unmarshal(text, &d); err != nil || d.Schema != document.Schema("audit") {
		return nil, nil, usage("%s is no report of audit: a report is what --out or --json wrote", path)
	}
	return &d, text, nil
}

// findingsOf are the findings of a report, as far as they are compared.
func findingsOf(d *document.Audit) []audit.Finding {
	return document.Map(d.Findings, func(f document.AuditFinding) audit.Finding {
		found := audit.Finding{ID: f.ID, Code: f.Code, Level: policy.Level(f.Level), Thing: f.Thing, Origin: f.File,
			Also: f.Detail, Since: f.Since}
		if f.Person != nil {
			found.Person = *f.Person
		}
		return found
	})
}
