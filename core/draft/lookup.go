package draft

import (
	"cmp"
	"maps"
	"slices"
	"strings"
)

// An ownerList is a request that lists what repositories belong to, of which a person chooses one.
type ownerList struct {
	path, items, value, ask string
}

var ownerValues = []string{"slug", "key", "path", "login", "username", "id", "uuid", "name"}

// owners finds the request that lists the owners of a name; nil where there is none.
func (d *document) owners(name string) *ownerList {
	var best *ownerList
	for _, op := range d.operations {
		list := segments(op.path)
		if op.method != "GET" || len(list) == 0 ||
			slices.ContainsFunc(list, func(s segment) bool { return s.param != "" }) ||
			!containsAny(list[len(list)-1].words, name) {
			continue
		}
		items, item, found := op.reply().list(func(s *shape) bool { _, has := s.find(ownerValues); return has })
		if !found {
			continue
		}
		value, _ := item.find(ownerValues)
		ask, has := item.find([]string{"name", "title", "displayname"})
		if !has {
			ask = value
		}
		if o := (&ownerList{strings.TrimPrefix(op.path, "/"), items, value.path, ask.path}); best == nil ||
			len(o.path) > len(best.path) { // the account's own has more in its path than everybody's
			best = o
		}
	}
	return best
}

// settleOwners gives the operations that need an owner a lookup for it, or the account where the document lists none.
func (d *document) settleOwners(chosen map[string]*match) {
	for _, does := range slices.Sorted(maps.Keys(chosen)) {
		m := chosen[does]
		for _, need := range m.lookups {
			name, found := strings.CutPrefix(need, ownerLookup)
			if !found {
				continue
			}
			if d.owners(name) != nil {
				m.say("you are asked once which %s is meant", name)
				continue
			}
			m.path = strings.ReplaceAll(m.path, "{"+ownerVariable(name)+"}", "{account}")
			m.sure -= againstIndirect
			m.say("the account is used for {%s}: a guess", name)
		}
	}
}

// writeLookups writes what operations look up first.
func (d *document) writeLookups(line func(string, ...any), chosen map[string]*match) {
	needed := map[string]bool{}
	for _, m := range chosen {
		for _, name := range m.lookups {
			needed[name] = needed[name] || m.sure >= written
		}
	}
	if repos := chosen["list-repos"]; needed["project"] && repos != nil && repos.fields["path"] != "" {
		line("\n[lookups.project]\npath = %s", quote(repos.path))
		if repos.items != "" {
			line("items = %s", quote(repos.items))
		}
		if repos.paging != "" {
			line("paging = %s", repos.paging)
		}
		line("match = { %s = \"{repo}\" }\nvalue = \"$.id\"", quote(repos.fields["path"]))
	}
	if who := chosen["who"]; needed["user_number"] && who != nil {
		line("\n[lookups.user_number]\npath = %s", quote(who.path))
		if who.items != "" {
			line("items = %s", quote(who.items))
		}
		line("value = %s", quote(cmp.Or(who.fields["id"], "$.id")))
	}
	for _, need := range slices.Sorted(maps.Keys(needed)) {
		name, found := strings.CutPrefix(need, ownerLookup)
		if !found || !needed[need] {
			continue
		}
		if o := d.owners(name); o != nil {
			line("\n[lookups.%s]\npath = %s", ownerVariable(name), quote(o.path))
			if o.items != "" {
				line("items = %s", quote(o.items))
			}
			line("value = %s\nask = %s", quote(o.value), quote(o.ask))
		}
	}
}
