package render

import (
	"anchorage.example/unicrux/core/remotes"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// Remotes writes where a repository is cloned from and pushed to.
func Remotes(s Style, list []remotes.Remote, tilde func(string) string) string {
	if len(list) == 0 {
		return s.Sentences("This repository has no remote.")
	}
	var rows [][]string
	var careful []string
	for _, r := range list {
		purpose := "both"
		if r.Push {
			purpose = "push"
		} else if pushesElsewhere(list, r) {
			purpose = "fetch"
		}
		address := untrusted.Clean(r.URL)
		rewritten := r.Used != "" && r.Account == "" // to an account's own name it is meant to be
		if rewritten {
			address = untrusted.Clean(r.Used)
		}
		name := untrusted.Clean(r.Name)
		if r.Kind == remotes.Submodule {
			name += " (submodule)"
		}
		rows = append(rows, []string{name, purpose, r.Transport, untrusted.Clean(r.Host), address})
		if rewritten {
			careful = append(careful,
				name+" is "+untrusted.Clean(r.URL)+" in "+tilde(r.Origin)+", and a rule rewrites it.")
		}
		if r.Secret {
			careful = append(careful,
				"There is a secret in the URL of "+name+" ("+tilde(r.Origin)+"): whoever reads that file has it.")
		}
	}
	return s.tableWithout([]string{"remote", "for", "by", "host", "URL"}, rows, "host", "for") + Careful(s, careful)
}

func pushesElsewhere(list []remotes.Remote, r remotes.Remote) bool {
	for _, other := range list {
		if other.Name == r.Name && other.Kind == r.Kind && other.Push {
			return true
		}
	}
	return false
}

// RemotesDocument makes the document of a repository's remotes.
func RemotesDocument(list []remotes.Remote) any {
	return document.Remotes{Schema: document.Schema("remotes"),
		Remotes: document.Map(list, func(r remotes.Remote) document.Remote {
			return document.Remote{Name: r.Name, Type: string(r.Kind), Push: r.Push, URL: r.URL,
				EffectiveURL: document.Text(r.Used), HasSecret: r.Secret, Origin: r.Origin,
				Transport: document.Text(r.Transport), Host: document.Text(r.Host), Account: document.Text(r.Account)}
		})}
}
