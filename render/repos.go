package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/repos"
	"anchorage.example/unicrux/core/trial"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// pathWidth is the column of a streamed list: its widths must be known before its end.
const pathWidth = 40

// Repo writes one line of a list that is not at its end yet.
func Repo(s Style, repo hostapi.Repo) string {
	path := untrusted.Clean(repo.Path)
	pad := strings.Repeat(" ", max(2, pathWidth-len([]rune(path))))
	access, tone := "", grey
	switch {
	case repo.Frozen:
		access = "archived"
	case repo.Access == hostapi.Write:
		access, tone = "read and write", teal
	case repo.Access == hostapi.Read:
		access = "read"
	}
	text := margin + path + pad + s.paint(tone, access)
	if repo.Visibility != "" {
		text += strings.Repeat(" ", max(2, 16-len(access))) + s.paint(grey, repo.Visibility)
	}
	return strings.TrimRight(text, " ") + "\n"
}

// RepoCount says how many there were.
func RepoCount(s Style, n int, host, search string) string {
	of := " on " + host
	if search != "" {
		of += " with “" + search + "” in their path"
	}
	switch n {
	case 0:
		return "There are no repositories" + of + " that this account may see."
	case 1:
		return "1 repository" + of + "."
	}
	return fmt.Sprintf("%d repositories%s.", n, of)
}

func repoDoc(r hostapi.Repo) document.Repository {
	return document.Repository{Repository: r.Path, SSHURL: document.Text(r.SSH), HTTPSURL: document.Text(r.HTTPS),
		Access: document.Text(string(r.Access)), Visibility: document.Text(r.Visibility), Archived: r.Frozen,
		Branch: document.Text(r.Branch)}
}

// ReposDocument makes the document of a host's repositories.
func ReposDocument(list []hostapi.Repo, host string) any {
	return document.Repositories{Schema: document.Schema("repositories"), Host: host,
		Repositories: document.Map(list, repoDoc)}
}

// MadeRepo says what there is now, and what was pushed.
func MadeRepo(s Style, m *repos.MadeRepo, host, folder string) string {
	path := untrusted.Clean(m.Repo.Path)
	texts := []string{path + " is on " + host + " now."}
	if m.Already {
		texts[0] = path + " was on " + host + " already."
	}
	switch m.Repo.Visibility {
	case "private":
		texts[0] += " It is private: only those who are let in can read it."
	case "public":
		texts[0] += " It is public: everybody can read it."
	}
	if m.Remote != "" {
		attached := folder + " is attached to it, as its remote " + m.Remote + "."
		if m.Made {
			attached = folder + " is a git repository now, attached to it as its remote " + m.Remote + "."
		}
		texts = append(texts, attached)
	}
	switch {
	case m.Branch != "":
		pushed := "Its branch " + m.Branch + " is pushed."
		if m.Tracks {
			pushed = "Its branch " + m.Branch + " is pushed, and a plain push goes there from now on."
		}
		texts = append(texts, pushed)
	case m.Remote != "":
		texts = append(
			texts,
			"Nothing is committed there yet, so nothing was pushed: commit, then git push --set-upstream "+m.Remote+" HEAD.",
		)
	}
	return s.Sentences(texts...)
}

// MadeRepoDocument makes the document of a repository that was created.
func MadeRepoDocument(m *repos.MadeRepo, host string, change int) any {
	return document.RepositoryAlone{Schema: document.Schema("repository"), Host: host, Repository: repoDoc(m.Repo),
		Already: m.Already, Remote: document.Text(m.Remote), Pushed: document.Text(m.Branch),
		Change: document.Number(change)}
}

// Trial writes what came of trying one operation.
func Trial(s Style, t trial.Trial) string {
	if t.State == trial.Lacking {
		return "" // told at the end, together
	}
	tone := map[trial.TrialState]tone{trial.Works: teal, trial.Fails: rose, trial.NotTried: ochre,
		trial.Lacking: grey}[t.State]
	words := t.Message
	if t.Err != nil {
		words = t.Err.Error()
	}
	name := t.Operation + strings.Repeat(" ", max(0, 15-len(t.Operation)))
	state := string(t.State) + strings.Repeat(" ", max(0, 9-len(t.State)))
	return strings.TrimRight(margin+name+"  "+s.paint(tone, state)+"  "+untrusted.Clean(words), " ") + "\n"
}

// TrialsEnd sums up what came of trying a description.
func TrialsEnd(s Style, list []trial.Trial, host string) string {
	works, fails := 0, 0
	var lacking []string
	for _, t := range list {
		switch t.State {
		case trial.Works:
			works++
		case trial.Fails:
			fails++
		case trial.Lacking:
			lacking = append(lacking, t.Operation)
		}
	}
	text := fmt.Sprintf("%d operations of %s were tried, and work as its description says.", works, host)
	if works == 1 {
		text = "One operation of " + host + " was tried, and works as its description says."
	}
	if fails > 0 {
		text = fmt.Sprintf(
			"Tried at %s: %d as its description says, %d otherwise. There the description and the host differ.",
			host,
			works,
			fails,
		)
	}
	if works+fails == 0 {
		text = "The description of " + host + " names nothing that can be tried."
	}
	lead := "\n" + s.Sentences(text)
	if len(lacking) > 0 {
		lead += s.Sentences("To be done on its web page: " + strings.Join(lacking, ", ") + ".")
	}
	return lead
}

// TrialsDocument makes the document of what came of trying a description.
func TrialsDocument(list []trial.Trial, host string, change int) any {
	return document.Trials{Schema: document.Schema("trials"), Host: host, Trials: document.Map(list, trialDoc),
		Change: document.Number(change)}
}

func trialDoc(t trial.Trial) document.Trial {
	message := t.Message
	if t.Err != nil {
		message = untrusted.Clean(t.Err.Error())
	}
	return document.Trial{Operation: t.Operation, State: strings.ReplaceAll(string(t.State), " ", "-"),
		Message: document.Text(message), Milliseconds: document.Milliseconds(t.Took)}
}
