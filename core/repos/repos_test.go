package repos_test

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/repos"
	"anchorage.example/unicrux/fixture"
)

func TestCheckName(t *testing.T) {
	t.Parallel()
	for name, good := range map[string]bool{"drift": true, "buoys/drift-model": true, "a/b/c": true, "a.b_c-1": true,
		"": false, "/": false, "a//b": false, "-a": false, "..": false, "a/..": false, "a b": false,
		"a\n": false, "é": false} {
		if err := repos.CheckName(name); (err == nil) != good || err != nil && !errors.Is(err, repos.ErrRepoName) {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// settled is a workstation that gets through to the host by SSH.
func settled(t *testing.T) (*fixture.Site, func(ctx context.Context, folder string, args ...string) error) {
	t.Helper()
	s := fixture.Settled(t)
	folder := s.Station.SSHDir() // the real ssh has another home than this test
	s.Station.Environ = append(s.Station.Environ,
		"GIT_SSH_COMMAND=ssh -F none -o BatchMode=yes -o HostName=127.0.0.1 -p "+strconv.Itoa(s.Host.SSHPort())+
			" -o UserKnownHostsFile="+filepath.Join(folder, "known_hosts")+" -i "+filepath.Join(folder, "mine"))
	return s, func(ctx context.Context, folder string, args ...string) error {
		cmd := exec.CommandContext(ctx, "git", args...)
		cmd.Dir, cmd.Env = folder, s.Station.Environ
		out, err := cmd.CombinedOutput()
		if err != nil {
			return errors.New(string(out))
		}
		return nil
	}
}

// TestAttach creates a repository and attaches a folder that is none yet, one with commits, and one that is attached
// already.
func TestAttach(t *testing.T) {
	t.Parallel()
	s, git := settled(t)
	client := s.Client(s.Description, s.Owner())
	folder := filepath.Dir(s.Write("depths\n", "survey", "depths.txt"))
	n := repos.NewRepo{Host: s.Description, Request: hostapi.RepoRequest{Path: "buoys/survey", Private: true},
		From: folder, Commit: true, Git: git}
	made, err := repos.Add(t.Context(), s.Site, s.Batch(), client, n)
	if err != nil || made.Already || !made.Made || made.Remote != "origin" || made.Branch == "" || !made.Tracks {
		t.Fatalf("%+v, %v", made, err)
	}
	if branches, err := s.Host.Branches("buoys/survey"); err != nil || len(branches) != 1 {
		t.Errorf("pushed: %v, %v", branches, err)
	}
	again, err := repos.Add(t.Context(), s.Site, s.Batch(), client, n)
	if err != nil || !again.Already || again.Made {
		t.Errorf("once more: %+v, %v", again, err)
	}
	// Another remote has the usual name.
	other := filepath.Join(s.Station.Home, "other")
	s.Git(s.Station.Home, "init", "--quiet", other)
	s.Git(other, "remote", "add", "origin", "https://elsewhere.example/x.git")
	n = repos.NewRepo{Host: s.Description, Request: hostapi.RepoRequest{Path: "buoys/other"}, From: other, Git: git}
	if made, err := repos.Add(t.Context(), s.Site, s.Batch(), client, n); err != nil || made.Remote != "forge" ||
		made.Branch != "" {
		t.Errorf("beside another remote: %+v, %v", made, err)
	}
	if found, err := repos.Find(t.Context(), s.Site, s.Batch(),
		repos.NewRepo{Host: s.Description, Request: hostapi.RepoRequest{Path: "buoys/survey"}, Git: git},
		0); err != nil || found.Remote != "" {
		t.Errorf("found: %+v, %v", found, err)
	}
	if _, err := repos.Find(t.Context(), s.Site, s.Batch(),
		repos.NewRepo{Host: s.Description, Request: hostapi.RepoRequest{Path: "buoys/nowhere"}, Git: git},
		0); !errors.Is(err, repos.ErrNoRepoHere) {
		t.Errorf("nowhere: %v", err)
	}
}

// TestRefused: nothing is created for a folder that cannot be attached.
func TestRefused(t *testing.T) {
	t.Parallel()
	s, git := settled(t)
	client := s.Client(s.Description, s.Owner())
	inside := filepath.Join(s.Station.Home, "outer", "inner")
	s.Git(s.Station.Home, "init", "--quiet", filepath.Dir(inside))
	if err := os.MkdirAll(inside, 0o700); err != nil {
		t.Fatal(err)
	}
	file := s.Write("x", "a-file")
	for name, row := range map[string]struct {
		from string
		want error
	}{
		"no folder":                 {filepath.Join(s.Station.Home, "nowhere"), repos.ErrNoDir},
		"a file":                    {file, repos.ErrNoDir},
		"inside another repository": {inside, repos.ErrOtherRoot},
	} {
		n := repos.NewRepo{Host: s.Description, Request: hostapi.RepoRequest{Path: "buoys/refused"},
			From: row.from, Git: git}
		if _, err := repos.Add(t.Context(), s.Site, s.Batch(), client, n); !errors.Is(err, row.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := client.Repo(t.Context(), "buoys/refused"); err == nil {
		t.Error("it was created all the same")
	}
}
