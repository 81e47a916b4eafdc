package render

import (
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/look"
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

// AccountsDocument makes the document "unicrux.accounts/1".
func AccountsDocument(d *describe.Description, accounts []hosts.Account, v *look.View) any {
	type entry struct {
		Account *string  `json:"account"` // null for the one that is used where no other is
		Folders []string `json:"folders"`
		Key     *string  `json:"key"`
		Author  *string  `json:"author"`
	}
	same := func(path string) string { return path }
	key := func(host string) *string {
		if path := keyFor(v, host, same); path != "none yet" {
			return &path
		}
		return nil
	}
	list := []entry{}
	for _, a := range accounts {
		list = append(list, entry{optional(a.Name), append([]string{}, a.Folders...), key(d.As(a.Name).Name),
			optional(a.Author)})
	}
	return struct {
		Schema   string  `json:"schema"`
		Host     string  `json:"host"`
		Accounts []entry `json:"accounts"`
	}{"unicrux.accounts/1", d.Name, append(list, entry{nil, []string{}, key(d.Name), nil})}
}
