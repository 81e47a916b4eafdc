package draft

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/untrusted"
)

// write makes the text of a description. What is doubted is there as a comment.
func (d *document) write(r *Result, o Options, chosen map[string]*match) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	title := cmp.Or(untrusted.Clean(textOf(asObject(d.root["info"])["title"])), r.Host)
	from, _, _ := strings.Cut(o.From, "?") // what follows may be a secret
	line("# Drafted by Unicrux from %s. Each line says where it comes from and how sure it is.",
		cmp.Or(untrusted.Clean(from), "an API document"))
	line("# Nothing here was tried yet: unicrux host add FILE, then unicrux host test %s", r.Name)
	line("unicrux = 1\nname = %s\ntitle = %s\n", quote(r.Name), quote(title))
	line("[ssh]\nhost = %s # %s\nuser = \"git\" # the document does not say; most hosts have this login\n",
		quote(r.Host), r.HostFrom)
	line("[https]\nurl = %s\nusername = \"{account}\" # the document does not say\n", quote("https://"+r.Host+"/"))
	d.writePurposes(line, chosen)
	in := d.signIn()
	line("[interface]\nurl = %s", quote(d.base.String()))
	for i, text := range in.lines {
		line("%s # %s", text, in.comments[min(i, len(in.comments)-1)])
	}
	if errors := d.errors(); errors != "" {
		line("errors = %s", errors)
	}
	if len(in.password) > 0 && usesPassword(d, chosen) {
		line("\n[interface.password] # by which tokens are issued")
		for _, text := range in.password {
			line("%s", text)
		}
	}
	for _, w := range wants {
		if m := chosen[w.does]; m != nil {
			b.WriteString("\n" + d.operationText(m))
		}
	}
	d.writeLookups(line, chosen)
	if len(r.Missing) > 0 {
		line("\n# Not found in the document, so it is done on the host's web page: %s", strings.Join(r.Missing, ", "))
	}
	return b.String()
}

func quote(text string) string { return strconv.QuoteToASCII(text) }

func (d *document) writePurposes(line func(string, ...any), chosen map[string]*match) {
	purposes := d.purposes(chosen)
	if len(purposes) == 0 {
		return
	}
	line("[purposes] # the host's scopes, by their names: a guess")
	for _, purpose := range describe.Purposes() {
		if scope := purposes[purpose]; scope != "" {
			line("%s = [%s]", purpose, quote(scope))
		}
	}
	line("")
}

// usesPassword reports whether an operation signs in by the account's password.
func usesPassword(d *document, chosen map[string]*match) bool {
	for _, m := range chosen {
		if d.byPassword(m) {
			return true
		}
	}
	return false
}

// byPassword reports whether an operation on tokens can be asked for by the account's password: the first token is had
// only by that.
func (d *document) byPassword(m *match) bool {
	return slices.Contains([]string{"issue-token", "list-tokens", "revoke-token"}, m.want.does) && d.basicFor(m.op)
}

// operationText is one operation; a doubted one as comments.
func (d *document) operationText(m *match) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	id := ""
	if m.op.id != "" {
		id = " (" + m.op.id + ")"
	}
	line("# %s %s%s: %.0f %% sure", m.op.method, m.op.path, id, 100*min(m.sure, 0.99))
	for _, guess := range m.guesses {
		line("# %s", strings.ReplaceAll(guess, "\n", " "))
	}
	line("[operations.%s]", m.want.does)
	if m.op.method != "GET" {
		line("method = %s", quote(m.op.method))
	}
	line("path = %s", quote(m.path))
	if d.byPassword(m) {
		line("sign-in = \"password\"")
	}
	if m.items != "" {
		line("items = %s", quote(m.items))
	}
	if m.op.open {
		line("open = true")
	}
	if len(m.fields) > 0 {
		line("fields = %s", fieldTable(m.fields))
	}
	if len(m.body) > 0 {
		kind := "body"
		if m.op.form {
			kind = "form"
		}
		line("%s = { %s }", kind, strings.Join(pairs(m.body, func(v string) string { return v }), ", "))
	}
	if dates := m.words["dates"]; dates != "" {
		line("dates = %s", quote(dates))
	}
	tables := maps.Clone(m.words)
	delete(tables, "dates")
	if len(tables) > 0 {
		line("words = { %s }", strings.Join(pairs(tables, func(v string) string { return v }), ", "))
	}
	if m.paging != "" {
		line("paging = %s", m.paging)
	}
	if m.op.missing && strings.HasPrefix(m.want.does, "remove") || m.op.missing && m.want.does == "revoke-token" {
		line("gone = [404]")
	}
	if m.sure >= written {
		return b.String()
	}
	return "# doubted, so it is a comment:\n" + commented(b.String())
}

func commented(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString("# " + strings.TrimPrefix(line, "# "))
	}
	return b.String()
}

// pairs writes a table's entries in the order of their names.
func pairs(table map[string]string, value func(string) string) []string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(table)) {
		key := name
		if strings.Trim(name, letters+"_-") != "" {
			key = quote(name)
		}
		list = append(list, key+" = "+value(table[name]))
	}
	return list
}

// fieldTable writes where values are; several places are joined.
func fieldTable(fields map[string]string) string {
	return "{ " + strings.Join(pairs(fields, func(path string) string {
		if first, second, both := strings.Cut(path, " $"); both {
			return "[" + quote(first) + ", " + quote("$"+second) + "]"
		}
		return quote(path)
	}), ", ") + " }"
}

// errors are the places of the host's words in a refusal.
func (d *document) errors() string {
	for _, op := range d.operations {
		if op.refusal == nil {
			continue
		}
		refusal := op.refusal()
		var places []string
		for _, name := range []string{"title", "detail", "message", "error.message", "error", "errormessage",
			"msg", "reason"} {
			if at, found := refusal.find([]string{name}); found && at.shape.kind != "integer" &&
				at.shape.kind != "boolean" {
				places = append(places, quote(at.path))
			}
		}
		if len(places) > 0 {
			return "[" + strings.Join(places[:min(2, len(places))], ", ") + "]"
		}
	}
	return ""
}

// hostOf guesses the name in clone URLs: that of the API, without what says that it is one.
func hostOf(base *url.URL) (host, from string) {
	host = base.Hostname()
	first, rest, _ := strings.Cut(host, ".")
	if first == "api" && strings.Contains(rest, ".") {
		return rest, "without the api. of its API: a guess"
	}
	return host, "where its API is"
}

// without takes out the operations that the language refuses, until it refuses none, and returns their names. They
// stay as comments.
func withoutRefused(text string) (fixed string, refused []string, err error) {
	for range len(wants) + 1 {
		_, err = describe.Parse([]byte(text))
		var wrong *describe.Error
		if !errors.As(err, &wrong) {
			return text, refused, err
		}
		rest, found := strings.CutPrefix(wrong.Place, "operations.")
		if !found {
			return text, refused, err
		}
		name, _, _ := strings.Cut(rest, ".")
		refused = append(refused, name)
		text = commentOut(text, "[operations."+name+"]", wrong.Message)
	}
	return text, refused, err
}

// commentOut makes a table of a description a comment.
func commentOut(text, head, why string) string {
	var b strings.Builder
	inside := false
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, head) {
			inside = true
			b.WriteString("# the language refuses it: " + strings.ReplaceAll(why, "\n", " ") + "\n")
		} else if strings.HasPrefix(line, "[") || strings.TrimSpace(line) == "" {
			inside = false
		}
		if inside {
			b.WriteString("# ")
		}
		b.WriteString(line)
	}
	return b.String()
}
