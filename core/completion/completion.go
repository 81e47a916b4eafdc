// Package completion lists what can be in the place of a word that a command's use line has in capitals: the hosts,
// accounts, keys, tokens, remotes and changes of this workstation. A shell waits for it at each press of a key, so
// nothing here asks anybody, and nothing fails: what cannot be read is left out.
package completion

import (
	"context"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/card"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/remotes"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// A Word is one that can be there, and what it is, which may be empty.
type Word struct{ Text, About string }

// lists are the words in capitals that name things of this workstation.
var lists = map[string]func(context.Context, *workstation.Station) []Word{
	"HOST": described, "ACCOUNT@HOST": accountsAtHosts, "ACCOUNT": accounts, "KEY": keys, "TOKEN": tokens,
	"REMOTE": remotesHere, "CHANGE": changes, "CODE": codes, "NAME=VALUE": settings,
	"FIELD": fields,
}

// Known reports whether a word in capitals names things that [Words] lists.
func Known(name string) bool { return lists[name] != nil }

// Words lists what can be in the place of a word in capitals, such as HOST; none for a word that is not [Known].
func Words(ctx context.Context, station *workstation.Station, name string) []Word {
	list := lists[name]
	if list == nil {
		return nil
	}
	return list(ctx, station)
}

// described lists the hosts, each followed by its further accounts.
func described(_ context.Context, station *workstation.Station) []Word {
	registry, err := hosts.Open(station)
	if err != nil {
		return nil
	}
	var words []Word
	for _, d := range registry.All() {
		words = append(words, Word{d.Name, untrusted.Clean(d.Title)})
	}
	return words
}

func accountsAtHosts(ctx context.Context, station *workstation.Station) []Word {
	return slices.DeleteFunc(described(ctx, station), func(w Word) bool { return !strings.Contains(w.Text, "@") })
}

func accounts(ctx context.Context, station *workstation.Station) []Word {
	var words []Word
	for _, w := range accountsAtHosts(ctx, station) {
		account, host, _ := strings.Cut(w.Text, "@")
		words = append(words, Word{account, "at " + host})
	}
	return words
}

func keys(_ context.Context, station *workstation.Station) []Word {
	found, err := sshkey.List(station.SSHDir())
	if err != nil {
		return nil
	}
	var words []Word
	for _, f := range found {
		if f.Err == nil {
			words = append(words, Word{filepath.Base(f.Pair.Path), untrusted.Clean(f.Pair.Comment)})
		}
	}
	return words
}

func tokens(_ context.Context, station *workstation.Station) []Word {
	list, err := chest.Of(station).List()
	if err != nil {
		return nil
	}
	var words []Word
	for _, entry := range list {
		words = append(words, Word{entry.Name, "for " + strings.Join(entry.Purposes, ", ")})
	}
	return words
}

func remotesHere(ctx context.Context, station *workstation.Station) []Word {
	registry, err := hosts.Open(station)
	if err != nil {
		return nil
	}
	list, err := remotes.List(ctx, station, registry)
	if err != nil {
		return nil
	}
	var words []Word
	for _, r := range list {
		if word := (Word{r.Name, untrusted.Clean(r.URL)}); !slices.Contains(words, word) {
			words = append(words, word)
		}
	}
	return words
}

// changes lists what can be taken back, the newest first.
func changes(_ context.Context, station *workstation.Station) []Word {
	all, err := station.Changes()
	if err != nil {
		return nil
	}
	var words []Word
	for _, change := range slices.Backward(all) {
		if change.Undone == nil && change.Unread == nil {
			words = append(words, Word{strconv.Itoa(change.ID), untrusted.Clean(change.Summary)})
		}
	}
	return words
}

func fields(context.Context, *workstation.Station) []Word {
	var words []Word
	for _, name := range card.FieldNames() {
		words = append(words, Word{name, ""})
	}
	return words
}

func codes(context.Context, *workstation.Station) []Word {
	var words []Word
	for _, code := range causes.AllCodes() {
		words = append(words, Word{code.String(), ""})
	}
	return words
}

// settings lists the names of a host's settings, each with what follows a name.
func settings(context.Context, *workstation.Station) []Word {
	var words []Word
	for _, name := range hosts.SettingNames() {
		words = append(words, Word{name + "=", ""})
	}
	return words
}
