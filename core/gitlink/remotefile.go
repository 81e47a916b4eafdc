package gitlink

import (
	"context"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// RemoteFile is the URL of a remote that stands in a file of the repository, as git wrote remotes once and still
// reads them ("Named file in $GIT_DIR/remotes", "in $GIT_DIR/branches" under REMOTES in git-fetch(1)); empty
// for none.
func RemoteFile(ctx context.Context, station *workstation.Station, name string) (url, file string) {
	if name == "" || strings.ContainsAny(name, `/\`) || strings.HasPrefix(name, ".") {
		return "", ""
	}
	for _, folder := range []string{"remotes", "branches"} {
		out, err := Run(ctx, station, "rev-parse", "--path-format=absolute", "--git-path", folder+"/"+name)
		if err != nil {
			return "", ""
		}
		file = filepath.FromSlash(strings.TrimSuffix(string(out), "\n"))
		text, err := regular.Read(file, regular.Settings)
		if err != nil { // most have none
			continue
		}
		for line := range strings.Lines(string(text)) {
			value, found := strings.CutPrefix(strings.TrimSpace(line), "URL:")
			if folder == "branches" { // the URL alone, and a branch behind it
				value, _, _ = strings.Cut(line, "#")
				found = true
			}
			if value = strings.TrimSpace(value); found && value != "" {
				return value, file
			}
		}
	}
	return "", ""
}
