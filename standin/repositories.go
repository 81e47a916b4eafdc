package standin

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// firstCommit is when every repository of the made-up world begins.
const firstCommit = "1763884800 +0000"

func (h *Host) makeRepositories() error {
	for _, repo := range h.world.repos {
		dir := h.repoDir(repo.path)
		if _, err := os.Stat(dir); err == nil { // an earlier host in the same folder made it
			continue
		}
		if err := h.makeBare(dir); err != nil {
			return err
		}
		if err := h.git(history(repo), "-C", dir, "fast-import", "--quiet"); err != nil {
			return err
		}
	}
	return nil
}

func (h *Host) makeBare(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return h.git(nil, "init", "--quiet", "--bare", "--initial-branch=main", dir)
}

// Reasons for which a repository is not created.
var (
	errRepoTaken = errors.New("there is such a repository already")
	errRepoName  = errors.New("this is no name for a repository")
)

// create makes an empty repository that an account may write to.
func (h *Host) create(account, path string, private bool) (sight, error) {
	if !regexp.MustCompile(`^[a-z0-9][a-z0-9._-]*(/[a-z0-9][a-z0-9._-]*)?$`).MatchString(path) {
		return sight{}, errRepoName
	}
	if !strings.Contains(path, "/") {
		path = account + "/" + path
	}
	h.state.Lock()
	taken := slices.ContainsFunc(h.world.repos, func(r repository) bool { return r.path == path })
	if !taken {
		h.world.repos = append(h.world.repos, repository{path: path, private: private,
			rights: map[string]right{account: writes}})
	}
	h.state.Unlock()
	if taken {
		return sight{}, errRepoTaken
	}
	if err := h.makeBare(h.repoDir(path)); err != nil {
		return sight{}, err
	}
	repo, _ := h.sight(account, path)
	return repo, nil
}

// history writes a repository's first commit as git-fast-import(1) reads it.
func history(repo repository) []byte {
	var b bytes.Buffer
	data := func(text string) { fmt.Fprintf(&b, "data %d\n%s\n", len(text), text) }
	b.WriteString("commit refs/heads/main\n")
	b.WriteString("author Tidewater <keeper@tidewater.example> " + firstCommit + "\n")
	b.WriteString("committer Tidewater <keeper@tidewater.example> " + firstCommit + "\n")
	data("Begin")
	names := make([]string, 0, len(repo.files))
	for name := range repo.files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		b.WriteString("M 100644 inline " + name + "\n")
		data(repo.files[name])
	}
	return b.Bytes()
}

func (h *Host) repoDir(path string) string {
	return filepath.Join(h.Folder, "repositories", filepath.FromSlash(path)+".git")
}

// gitCommand starts git with nothing of the person's own settings.
func (h *Host) gitCommand(args ...string) *exec.Cmd {
	cmd := exec.CommandContext(h.ctx, "git", args...)
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + h.Folder, "GIT_CONFIG_NOSYSTEM=1", "LC_ALL=C.UTF-8"}
	return cmd
}

func (h *Host) git(input []byte, args ...string) error {
	cmd := h.gitCommand(args...)
	cmd.Stdin = bytes.NewReader(input)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the practice host: git %s: %w: %s", args[0], err, bytes.TrimSpace(out))
	}
	return nil
}

// Branches lists a repository's branches with their newest commit.
func (h *Host) Branches(path string) ([]Branch, error) {
	out, err := h.gitCommand("-C", h.repoDir(path), "for-each-ref", "refs/heads",
		"--format=%(refname:short)%00%(objectname)%00%(contents:subject)%00%(authorname)").Output()
	if err != nil {
		return nil, err
	}
	var list []Branch
	for line := range strings.Lines(string(out)) {
		parts := strings.Split(strings.TrimSuffix(line, "\n"), "\x00")
		if len(parts) == 4 {
			list = append(list, Branch{Name: parts[0], Commit: parts[1], Subject: parts[2], Author: parts[3]})
		}
	}
	return list, nil
}

// A Branch as the interface tells it.
type Branch struct {
	Name    string `json:"name"`
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	Author  string `json:"author"`
}

// Plant makes the host tell of many repositories of an account. They are not there for git.
func (h *Host) Plant(account, group string, n int) {
	h.state.Lock()
	defer h.state.Unlock()
	for i := range n {
		h.world.repos = append(h.world.repos, repository{path: fmt.Sprintf("%s/r%04d", group, i),
			rights: map[string]right{account: reads}})
	}
}
