// Package takeback undoes what was done at hosts and in the desktop's secret service, by the records of changes.
// Files are taken back by package workstation itself.
package takeback

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
)

// ErrUnknownAct is returned for an act at a host that this version does not know how to take back.
var ErrUnknownAct = fault.New("undo-unknown-act", fault.Failed, "this version of Unicrux cannot take that back")

// Step takes back what was told to a host. What is as it was before is no error.
func Step(ctx context.Context, p site.Site, step workstation.HostStep,
	token func(*describe.Description) (origin.Bound, error)) error {
	if step.Act == keys.ActKeepPassphrase {
		if err := desktop.Forget(step.Data["name"]); !errors.Is(err, desktop.ErrNone) {
			return err
		}
		return nil
	}
	if step.Act == hosts.ActSee || step.Act == hosts.ActMiss || step.Act == hosts.ActRepo {
		return nil // it was only seen, or it stays: what was pushed to a repository is not ours to remove
	}
	if slices.Contains([]string{hosts.ActIssue, hosts.ActKeep, hosts.ActRevoke}, step.Act) {
		return tokens.TakeBack(ctx, p, step)
	}
	if step.Act != hosts.ActAdd && step.Act != hosts.ActRemove {
		return fmt.Errorf("%q at %s: %w", step.Act, step.Host, ErrUnknownAct)
	}
	host, err := p.Registry.Find(step.Host)
	if err != nil {
		return err
	}
	secret, err := token(host)
	if err != nil {
		return err
	}
	return registration.TakeBack(ctx, p.Client(host, secret), step)
}
