package hosts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// OurGitFile is the file of git's settings that is ours; the person's own includes it.
func OurGitFile(station *workstation.Station) string {
	return filepath.Join(station.Config, "git.config")
}

// gitHead is the first line of our files of git's settings.
const gitHead = ourMark + "1). To change it: unicrux host set\n"

// authorFile holds who the commits for a host are by.
func authorFile(station *workstation.Station, hostName string) string {
	return filepath.Join(station.Config, "git", hostName+".config")
}

// ourEntries lists what stands in our file of git's settings. The error wraps [workstation.ErrNewer] where
// a newer version of Unicrux wrote it.
func ourEntries(station *workstation.Station) ([]gitlink.Entry, error) {
	path := OurGitFile(station)
	text, err := regular.Read(path, regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = ourVersion(path, text)
	}
	if err != nil {
		return nil, err
	}
	return gitlink.EntriesOf(text)
}

// GitReads tells whether git reads our file: somebody may have taken out the line that
// includes it.
func GitReads(config *gitlink.Config, station *workstation.Station) bool {
	for _, entry := range config.All("include.path") {
		if filepath.FromSlash(entry.Value) == OurGitFile(station) {
			return true
		}
	}
	return false
}

// SettleGit puts variables into our file and makes the person's own include it. Where
// nothing is set, nothing is written.
func SettleGit(ctx context.Context, batch *workstation.Batch, station *workstation.Station, words string,
	assignments []gitlink.Assignment) error {
	if err := editGit(ctx, batch, station, OurGitFile(station), words, assignments); err != nil {
		return err
	}
	if _, err := os.Stat(OurGitFile(station)); errors.Is(err, fs.ErrNotExist) && !batch.Dry {
		return nil
	}
	return editGit(ctx, batch, station, gitlink.GlobalFile(station), "Include our settings in git's own.",
		[]gitlink.Assignment{
			{Key: "include.path", Values: []string{filepath.ToSlash(OurGitFile(station))}, Beside: true}})
}

// editGit changes one of git's files. One that has nothing in it is not made.
func editGit(ctx context.Context, batch *workstation.Batch, station *workstation.Station, path, words string,
	assignments []gitlink.Assignment) error {
	_, err := editGitText(ctx, batch, station, path, words, assignments)
	return err
}

// editGitText is [editGit], and returns what is in the file then.
func editGitText(ctx context.Context, batch *workstation.Batch, station *workstation.Station, path, words string,
	assignments []gitlink.Assignment) (text []byte, err error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) && !sets(assignments) {
		return nil, nil
	}
	_, err = gitlink.ChangeText(batch, gitlink.EditOf{Path: path, Words: words, Mode: 0o600},
		func(old []byte) ([]byte, error) {
			if err := ourVersion(path, old); err != nil {
				return nil, err
			}
			changed, err := gitlink.Assign(ctx, station, old, assignments)
			if err != nil || len(old)+len(changed) == 0 {
				return old, err
			}
			// not the person's own
			if len(old) == 0 && strings.HasPrefix(path, station.Config+string(filepath.Separator)) {
				changed = slices.Concat([]byte(gitHead), changed)
			}
			text = changed
			return changed, nil
		})
	return text, err
}

func sets(assignments []gitlink.Assignment) bool {
	for _, a := range assignments {
		if len(a.Values) > 0 {
			return true
		}
	}
	return false
}

// httpKey is a variable of git's for HTTPS that holds for a host alone.
func httpKey(hostName, variable string) string { return "http.https://" + hostName + "/." + variable }

// remotePatterns match the URLs of a host's repositories ("hasconfig:remote.*.url" in
// git-config(1)).
func remotePatterns(hostName string) []string {
	return []string{"https://" + hostName + "/**", "https://*@" + hostName + "/**", "ssh://" + hostName + "/**",
		"ssh://*@" + hostName + "/**",
		"*@" + hostName + ":*", "*@" + hostName + ":*/**",
		"https://" + hostName + ":*/**", "https://*@" + hostName + ":*/**", "ssh://" + hostName + ":*/**",
		"ssh://*@" + hostName + ":*/**"}
}

// authorAssignments make git take an author from a file: for repositories below a folder, or
// for those of the host.
func authorAssignments(station *workstation.Station, hostName, folder string, set bool) []gitlink.Assignment {
	path := []string{filepath.ToSlash(authorFile(station, hostName))}
	if !set {
		path = nil
	}
	var list []gitlink.Assignment
	for _, pattern := range remotePatterns(hostName) {
		a := gitlink.Assignment{Key: "includeIf.hasconfig:remote.*.url:" + pattern + ".path"}
		if folder == "" {
			a.Values = path
		}
		list = append(list, a)
	}
	if folder != "" {
		list = append(list, gitlink.Assignment{Key: "includeIf.gitdir:" + strings.TrimSuffix(filepath.ToSlash(folder),
			"/") + "/.path", Values: path})
	}
	return list
}

// rewriteAssignments make git reach a host by ssh or by https, whatever stands in a URL. at is the
// host as it stands in HTTPS URLs.
func rewriteAssignments(hostName, at, user, by string) []gitlink.Assignment {
	ssh := gitlink.Assignment{Key: "url.ssh://" + user + "@" + hostName + "/.insteadOf"}
	https := gitlink.Assignment{Key: "url.https://" + at + "/.insteadOf"}
	switch by {
	case "ssh":
		ssh.Values = []string{"https://" + at + "/"}
	case "https":
		https.Values = []string{"ssh://" + user + "@" + hostName + "/", user + "@" + hostName + ":"}
	}
	return []gitlink.Assignment{ssh, https}
}

// dropGit takes everything about a host out of our file of git's settings.
func dropGit(ctx context.Context, batch *workstation.Batch, station *workstation.Station, hostName, at string) error {
	entries, err := ourEntries(station)
	if err != nil {
		return err
	}
	author := filepath.ToSlash(authorFile(station, hostName))
	var list []gitlink.Assignment
	for _, entry := range entries {
		about := entry.Value == author
		for _, mark := range []string{"://" + hostName + "/", "@" + hostName + "/", "@" + hostName + ":",
			"://" + at + "/", "://" + at + "."} {
			about = about || strings.Contains(entry.Key, mark)
		}
		if about {
			list = append(list, gitlink.Assignment{Key: entry.Key})
		}
	}
	left, err := editGitText(ctx, batch, station, OurGitFile(station),
		fmt.Sprintf("Take out how git reaches %s.", hostName), list)
	if err == nil && len(left) > 0 {
		err = dropGitFile(ctx, batch, station, left)
	}
	if err != nil {
		return err
	}
	return batch.Remove(authorFile(station, hostName), fmt.Sprintf("Forget who commits for %s are by.", hostName))
}
