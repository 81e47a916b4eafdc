// Package draft writes a description of a host from the document of its API, in OpenAPI 3 or Swagger 2.0: for each of
// our operations it weighs which of the document's is the one, by one table. What it is not sure of it does not
// write.
package draft

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/learn"
)

// Options say what a document cannot.
type Options struct {
	Name string // what to call the host; empty for the most telling word of its host name
	Host string // the name in clone URLs; empty for the one at which the API is
	From string // the URL or the file of the document
}

// A Result is a draft.
type Result struct {
	Text     string
	Name     string
	Host     string
	HostFrom string // where the host name comes from
	Found    []Found
	Missing  []string // operations that the document does not have, or that are doubted
}

// Found is an operation of ours, and the document's that it is.
type Found struct {
	Does    string
	Request string  // method and path, as the document has them
	Sure    float64 // from 0 to 1
	Doubted bool    // it is a comment, and not used
}

// Of drafts a description. The error wraps [ErrDocument] for a text that is no API document, [ErrNowhere] where it does
// not say where its API is, or is a *[describe.Error] of what was written, which is a fault of ours.
func Of(text []byte, o Options) (*Result, error) {
	from := o.From
	if !strings.HasPrefix(from, "https://") {
		from = ""
	}
	d, err := read(text, from)
	if err != nil {
		return nil, err
	}
	switch {
	case d.base == nil && o.Host == "":
		return nil, ErrNowhere
	case d.base == nil:
		d.base = &url.URL{Path: "/"}
		fallthrough
	case d.base.Host == "" && o.Host != "":
		d.base.Scheme, d.base.Host = "https", o.Host
	case d.base.Host == "":
		return nil, ErrNowhere
	}
	r := &Result{}
	r.Host, r.HostFrom = hostOf(d.base)
	if o.Host != "" {
		r.Host, r.HostFrom = o.Host, "as you said"
	}
	r.Name = cmp.Or(o.Name, learn.Name(r.Host, func(string) bool { return false }))
	chosen := d.choose()
	for _, w := range wants {
		m := chosen[w.does]
		if m == nil {
			r.Missing = append(r.Missing, w.does)
			continue
		}
		r.Found = append(r.Found, Found{w.does, m.op.method + " " + m.op.path, m.sure, m.sure < written})
	}
	text2, refused, err := withoutRefused(d.write(r, o, chosen))
	r.Text = text2
	for i, f := range r.Found {
		r.Found[i].Doubted = f.Doubted || slices.Contains(refused, f.Does)
		if r.Found[i].Doubted {
			r.Missing = append(r.Missing, f.Does)
		}
	}
	if err != nil {
		return r, fmt.Errorf("the draft: %w", err)
	}
	return r, nil
}

// choose picks for each of our operations the document's that is most likely the one.
func (d *document) choose() map[string]*match {
	chosen := map[string]*match{}
	for _, w := range wants {
		base := ""
		if list := chosen["list-"+strings.TrimPrefix(strings.TrimPrefix(w.does, "add-"), "remove-")+"s"]; list != nil {
			base = bare(list.op.path)
		}
		if list := chosen["list-tokens"]; list != nil && strings.HasSuffix(w.does, "-token") {
			base = bare(list.op.path)
		}
		var best *match
		for _, op := range d.operations {
			m := d.consider(w, op)
			if m == nil || m.sure < doubted {
				continue
			}
			if base != "" && strings.HasPrefix(bare(op.path), base) {
				m.sure += againstIndirect // it belongs to the same list
			}
			if best == nil || m.sure > best.sure+0.001 || m.sure > best.sure-0.001 && len(op.path) < len(best.op.path) {
				best = m
			}
		}
		if best != nil {
			chosen[w.does] = best
		}
	}
	d.settle(chosen)
	return chosen
}

// bare is a path without the names of its parameters.
func bare(path string) string {
	var list []string
	for _, s := range segments(path) {
		if s.param != "" {
			s.text = "{}"
		}
		list = append(list, s.text)
	}
	return strings.Join(list, "/")
}

// settle makes operations that belong together agree: what removes a key names it as the list does.
func (d *document) settle(chosen map[string]*match) {
	for _, pair := range [][2]string{{"list-keys", "remove-key"}, {"list-repo-keys", "remove-repo-key"},
		{"list-signing-keys", "remove-signing-key"}, {"list-tokens", "revoke-token"}} {
		list, remove := chosen[pair[0]], chosen[pair[1]]
		if list == nil || remove == nil {
			continue
		}
		all := segments(remove.op.path)
		last := all[len(all)-1].param
		_, words := remove.typeOf(last)
		reply := list.op.reply()
		_, item, found := reply.list(func(s *shape) bool { return list.fit(s, false) })
		if !found {
			continue
		}
		name := plainName(last)
		if strings.Contains(words, "uuid") || name == "uuid" {
			name = "uuid"
		}
		if at, found := item.find([]string{name}); found && name != "id" {
			list.fields["id"] = at.path
		}
	}
	d.settleOwners(chosen)
	if d.lacksLookup(chosen) {
		for _, m := range chosen {
			if slices.Contains(m.lookups, "project") {
				m.sure = min(m.sure, written-0.01)
				m.say("nothing says how the host's number of a repository is found")
			}
		}
	}
	if chosen["list-keys"] == nil {
		for _, does := range []string{"add-key", "remove-key"} {
			if m := chosen[does]; m != nil && does == "add-key" && m.fields["id"] == "" {
				m.sure = min(m.sure, written-0.01)
			}
		}
	}
}

// lacksLookup reports whether nothing lists repositories by their paths.
func (d *document) lacksLookup(chosen map[string]*match) bool {
	repos := chosen["list-repos"]
	return repos == nil || repos.sure < written || repos.fields["path"] == ""
}
