package cli

import (
	"encoding/json"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/about"
	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/render"
	"anchorage.example/unicrux/render/document"
)

// reportFile is where the report of a machine is by habit; the units that are shipped put it there.
const reportFile = "/var/lib/unicrux/audit.json"

// forEngineCommand are the commands that configuration engines call, and people do not.
func forEngineCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "for-engine", Short: "What configuration engines call", Hidden: true}
	command.AddCommand(forEngineState(a), forEngineFacts(a), forEngineHome(a))
	return command
}

// engineArguments are what an engine hands to its module, as JSON in a file. Names that begin with an underscore are
// the engine's own.
type engineArguments struct {
	State string   `json:"state"`
	Homes bool     `json:"homes"`
	Only  []string `json:"only"`
	Check bool     `json:"_ansible_check_mode"`
}

func forEngineState(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "state ARGSFILE", Short: "Apply a state, with arguments and answer in JSON",
		RunE: func(_ *cobra.Command, args []string) error {
			applied, err := engineState(a, args[0])
			if err != nil {
				p := asProblem(err)
				return errors.Join(a.print(render.JSON(render.ApplyFailed(strings.TrimSpace(p.message+". "+p.advice)))),
					&told{exitFailure})
			}
			if err := a.print(render.JSON(render.ApplyDocument(applied))); err != nil {
				return err
			}
			if applied.Failed() {
				return &told{exitFailure}
			}
			return nil
		},
	}
}

func engineState(a *app, path string) (render.Applied, error) {
	arguments, err := readArguments(path)
	if err != nil {
		return render.Applied{}, err
	}
	a.dry = a.dry || arguments.Check
	o := applyOptions{homes: arguments.Homes, only: arguments.Only}
	return o.settle(a, arguments.State)
}

// readArguments reads what an engine hands over; a word that is not known is an error, as everywhere.
func readArguments(path string) (engineArguments, error) {
	var arguments engineArguments
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return arguments, err
	}
	var words map[string]json.RawMessage
	if json.Unmarshal(text, &words) != nil || json.Unmarshal(text, &arguments) != nil {
		return arguments, usage("%s is no JSON object of arguments: state, homes, only", path)
	}
	for name := range words {
		if !strings.HasPrefix(name, "_") && !slices.Contains([]string{"state", "homes", "only"}, name) {
			return arguments, usage("the argument %q is not known; there are: state, homes, only", name)
		}
	}
	for _, part := range arguments.Only {
		if !slices.Contains(apply.Parts(), part) {
			return arguments, usage("only=%s is not known; there are: %s", part, strings.Join(apply.Parts(), ", "))
		}
	}
	if arguments.State == "" {
		return arguments, usage("the argument state is missing: the path of the state on this machine")
	}
	return arguments, nil
}

func forEngineFacts(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "facts", Short: "Say in JSON which versions and states this machine has", Args: cobra.NoArgs,
		RunE: func(_ *cobra.Command, _ []string) error {
			facts, err := machineFacts(a)
			if err != nil {
				return err
			}
			return a.print(render.JSON(facts))
		},
	}
}

func machineFacts(a *app) (document.Facts, error) {
	facts := document.Facts{Schema: document.Schema("facts"), Version: about.Version}
	applied, err := declared.Read(a.station)
	if err != nil {
		return facts, err
	}
	facts.Applied = render.AppliedDocument(applied)
	rules, err := policy.Read(a.station)
	if err != nil {
		return facts, err
	}
	facts.Policy = render.PolicyDocument(rules)
	switch report, text, err := readReport(reportFile); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return facts, err
	default:
		facts.Report = render.FactsOf(report, text, a.station.Now())
	}
	return facts, nil
}
