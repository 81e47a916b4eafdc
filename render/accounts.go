package render

import (
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/render/document"
)

// Accounts writes which account of a host is used where, with which key and author.
func Accounts(s Style, d *describe.Description, accounts []hosts.Account, v *look.View,
	tilde func(string) string) string {
	var rows [][]string
	for _, a := range accounts {
		var folders []string
		for _, folder := range a.Folders {
			folders = append(folders, "below "+tilde(folder))
		}
		rows = append(rows, []string{a.Name, strings.Join(folders, ", "),
			keyFor(v, d.As(a.Name).Name, tilde), a.Author})
	}
	where := "everywhere"
	if len(rows) > 0 {
		where = "everywhere else"
	}
	rows = append(rows, []string{"", where, keyFor(v, d.Name, tilde), ""})
	return s.table([]string{"account", "used", "key", "author"}, rows)
}

// keyFor names the key that ssh would offer first to a host.
func keyFor(v *look.View, host string, tilde func(string) string) string {
	for _, h := range v.Hosts {
		if h.Description.Name == host && len(h.Offers) > 0 {
			return tilde(v.Keys[h.Offers[0]].Pair.Path)
		}
	}
	return "none yet"
}

// AccountsDocument makes the document of the accounts on a host.
func AccountsDocument(d *describe.Description, accounts []hosts.Account, v *look.View) any {
	same := func(path string) string { return path }
	key := func(host string) *document.Path {
		if path := keyFor(v, host, same); path != "none yet" {
			return document.Text(document.Path(path))
		}
		return nil
	}
	list := document.Map(accounts, func(a hosts.Account) document.Account {
		return document.Account{Account: document.Text(a.Name), Folders: document.List(a.Folders),
			Key: key(d.As(a.Name).Name), Author: document.Text(a.Author)}
	})
	list = append(list, document.Account{Folders: []string{}, Key: key(d.Name)})
	return document.Accounts{Schema: document.Schema("accounts"), Host: d.Name, Accounts: list}
}
