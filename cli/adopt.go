package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/adopt"
	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

func chestAdopt(a *app) *cobra.Command {
	var source string
	command := &cobra.Command{
		Use: "adopt [FILE…]", Short: "Find secrets in plain files, and move them into the chest",
		Long: `Finds secrets for code hosts in git's credential file, netrc files, URLs of remotes and headers
in git's configuration, moves them into the chest, and makes sure that git still gets them.
Those in environment files and shell histories are only listed: others may know them there,
so revoke them. With --dry-run all are listed, and nothing is moved.`,
		RunE: func(_ *cobra.Command, args []string) error { return runAdopt(a, args, source) },
	}
	chestOption(command, &source)
	return command
}

func runAdopt(a *app, files []string, source string) error {
	found, err := plainsecrets.Find(a.ctx, a.station, files)
	if err != nil {
		return err
	}
	return adoptThese(a, found, source)
}

// runSweep takes what was moved into the chest out of the record of changes as well: older edits may
// have been about the same place.
func runSweep(a *app, list []adopt.Adopted) error {
	var secrets [][]byte
	for _, adopted := range list {
		if adopted.Name != "" && adopted.Err == nil {
			secrets = append(secrets, adopted.Stray.Secret.Reveal())
		}
	}
	if len(secrets) == 0 {
		return nil
	}
	swept, err := a.station.Sweep(secrets)
	if swept > 0 {
		a.progress(
			fmt.Sprintf(
				"Unicrux removed these secrets from the record of changes (%d places). unicrux undo does not restore them.",
				swept,
			),
		)
	}
	return err
}

func adoptThese(a *app, found []plainsecrets.Stray, source string) error {
	batch, list, err := adoptList(a, found, source)
	if err != nil {
		return err
	}
	if err := a.show(render.Adopted(a.style(), list, a.dry, a.station.Tilde),
		render.AdoptedDocument(list, number(batch))); err != nil {
		return err
	}
	if slices.ContainsFunc(list, func(d adopt.Adopted) bool { return d.Err != nil }) {
		return &told{exitCrux}
	}
	return nil
}

// adoptList moves secrets into the chest, one run after the other: two at once would keep each twice.
func adoptList(a *app, found []plainsecrets.Stray, source string) (*workstation.Batch, []adopt.Adopted, error) {
	place, err := a.place()
	if err != nil {
		return nil, nil, err
	}
	unlock, err := a.station.Alone(a.ctx, "adopt",
		func() { a.progress("Another unicrux is moving secrets into the chest. Waiting for it.") })
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	if slices.ContainsFunc(found, plainsecrets.Stray.Movable) && !a.dry {
		a.progress("undo cannot take this back: secrets in the files are not recorded.")
		if err := readyForSecrets(a, tokens.Chest(place), source); err != nil {
			return nil, nil, err
		}
		if err := openChest(a, tokens.Chest(place), source, agent.WorkingDay); err != nil {
			return nil, nil, err
		}
	}
	batch := a.begin("Move secrets from plain files into the chest.")
	list, err := adopt.Adopt(a.ctx, place, batch, found)
	return batch, list, errors.Join(err, runSweep(a, list))
}
