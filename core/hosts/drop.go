package hosts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// dropBlock takes our settings for a host name out of ssh's. When they were the last, our file goes too,
// and the line that includes it.
func dropBlock(batch *workstation.Batch, station *workstation.Station, hostName string) error {
	if _, err := os.Stat(OurFile(station)); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var left []byte
	err := EditOurs(batch, station, fmt.Sprintf("Take out how ssh reaches %s.", hostName),
		func(old []byte) (_ []byte, err error) {
			left, err = sshconfig.SetMatchExec(sshconfig.DropBlock(old, []string{hostName}), hostName, "")
			return left, err
		})
	if err != nil || sshconfig.Says(left) {
		return err
	}
	err = dropFrom(batch, filepath.Join(station.SSHDir(), "config"), "Include our settings no longer.",
		func(old []byte) []byte {
			return sshconfig.DropInclude(old, station.SSHPath(OurFile(station)), includeNote)
		})
	return errors.Join(err, batch.Remove(OurFile(station), "Remove our ssh config file, which is empty now."))
}

// dropFrom takes something out of a file, and the file when nothing is left in it.
func dropFrom(batch *workstation.Batch, path, words string, without func(old []byte) []byte) error {
	empty := false
	_, err := batch.Edit(path, words, 0o600, func(old []byte) ([]byte, error) {
		left := without(old)
		if len(old) > 0 && len(left) == 0 {
			empty = true
			return old, nil
		}
		return left, nil
	})
	if err == nil && empty {
		err = batch.Remove(path, words)
	}
	return err
}

// dropGitFile removes our file of git's settings when nothing is set in it, and the line that includes it.
func dropGitFile(ctx context.Context, batch *workstation.Batch, station *workstation.Station, left []byte) error {
	entries, err := gitlink.EntriesOf(left)
	if err != nil {
		return err
	}
	var inPlace []gitlink.Assignment
	for _, entry := range entries {
		if entry.Key != "core.sshcommand" && entry.Key != "ssh.variant" {
			return nil
		}
		inPlace = append(inPlace, gitlink.Assignment{Key: entry.Key})
	}
	if len(inPlace) > 0 { // what starts ssh for every host, and is of no use when none is left
		if _, err := os.Stat(OurFile(station)); err == nil {
			return nil
		}
		if err := editGit(ctx, batch, station, OurGitFile(station), "Let git start ssh itself.", inPlace); err != nil {
			return err
		}
	}
	const words = "Include our settings no longer."
	own := gitlink.GlobalFile(station)
	text, err := editGitText(ctx, batch, station, own, words, []gitlink.Assignment{
		{Key: "include.path", Values: []string{filepath.ToSlash(OurGitFile(station))}, Without: true}})
	if err == nil && text != nil && len(text) == 0 {
		err = batch.Remove(own, words)
	}
	return errors.Join(err, batch.Remove(OurGitFile(station), "Remove our file of git settings, which is empty now."))
}
