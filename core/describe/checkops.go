package describe

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/yosida95/uritemplate/v3"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/strict"
)

var methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE"}

func (d *Description) checkOperations() error {
	for _, name := range slices.Sorted(maps.Keys(d.Operations)) {
		at := "operations." + name
		kind, found := Operations[name]
		if !found {
			return wrong(at, "an operation that the language does not know%s", strict.Meant(name, known()))
		}
		operation := d.Operations[name]
		used, err := d.checkRequest(at, operation, slices.Concat(kind.Takes, everywhere, []string{entries}))
		if err != nil {
			return err
		}
		if err := d.checkWhole(at, name, operation, used); err != nil {
			return err
		}
		for _, must := range kind.Must {
			if operation.Whole != "" && operation.Entry == nil { // we find the one that is to be removed
				break
			}
			if !slices.ContainsFunc(must, func(v string) bool { return slices.Contains(used, v) }) {
				return wrong(
					at,
					"no template here contains {%s}, so the host does not receive it",
					strings.Join(must, "} or {"),
				)
			}
		}
		if err := d.checkFields(at+".fields", name, operation.Fields, kind); err != nil {
			return err
		}
	}
	return nil
}

// checkWhole looks at an operation that replaces a whole list.
func (d *Description) checkWhole(at, name string, o Operation, used []string) error {
	verb, noun, _ := strings.Cut(name, "-")
	switch {
	case o.Whole == "" && o.Entry == nil && !slices.Contains(used, entries):
		return nil
	case o.Whole == "":
		return wrong(at+".whole", "missing: the operation that lists what this one replaces")
	case (verb != "add" && verb != "remove") || o.Whole != "list-"+noun+"s" || !d.Can(o.Whole):
		return wrong(at+".whole", "the operation is needed that lists the same, such as list-keys for add-key")
	case !slices.Contains(used, entries):
		return wrong(at, "no template here holds {%s}, so the list would be lost", entries)
	case (verb == "add") != (o.Entry != nil):
		return wrong(at+".entry", "what is put into the list is needed where something is added, and only there")
	}
	return nil
}

func (d *Description) checkFields(at, name string, fields map[string]Places, kind Known) error {
	for _, field := range kind.Needs {
		if len(fields[field]) == 0 {
			return wrong(at+"."+field, "missing: %s must find it", name)
		}
	}
	if len(kind.OneOf) > 0 && !slices.ContainsFunc(kind.OneOf, func(f string) bool { return len(fields[f]) > 0 }) {
		return wrong(at, "%s must find one of %s", name, strings.Join(kind.OneOf, ", "))
	}
	all := slices.Concat(kind.Needs, kind.OneOf, kind.Finds)
	for _, field := range slices.Sorted(maps.Keys(fields)) {
		if !slices.Contains(all, field) {
			return wrong(at+"."+field, "a field that %s does not know%s", name, strict.Meant(field, all))
		}
		for _, text := range fields[field] {
			if err := place(text); err != nil {
				return wrong(at+"."+field, "%s", err)
			}
		}
	}
	if name == "add-key" && len(fields["id"]) == 0 && !d.Can("list-keys") {
		return wrong(at+".id", "missing: without it, or list-keys, a key could not be taken back")
	}
	return nil
}

func (d *Description) checkLookups() error {
	fine := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(d.Lookups)) {
		at, l := "lookups."+name, d.Lookups[name]
		if !allow.Variable(name) || slices.Contains(allVariables(), name) {
			return wrong(at, "a name of small letters, digits and _ is needed, that no other value has")
		}
		if _, err := d.checkRequest(at, l.Operation, allVariables()); err != nil {
			return err
		}
		if len(l.Value) == 0 {
			return wrong(at+".value", "missing: where the value is in a result")
		}
		for _, text := range l.Value {
			if err := place(text); err != nil {
				return wrong(at+".value", "%s", err)
			}
		}
		for _, text := range l.Ask {
			if err := place(text); err != nil {
				return wrong(at+".ask", "%s", err)
			}
		}
		for where, template := range l.Match {
			if err := place(where); err != nil {
				return wrong(at+".match."+where, "%s", err)
			}
			if err := d.checkVariables(at+".match."+where, Variables(template), allVariables()); err != nil {
				return err
			}
		}
		if err := d.checkCircle(name, nil, fine); err != nil {
			return err
		}
	}
	return nil
}

// checkCircle refuses lookups that need each other. Each is looked at once: fine has those that need no
// circle.
func (d *Description) checkCircle(name string, before []string, fine map[string]bool) error {
	if fine[name] {
		return nil
	}
	if slices.Contains(before, name) {
		return wrong("lookups."+name, "needs itself, by way of %s",
			strings.Join(before[slices.Index(before, name):], ", "))
	}
	l := d.Lookups[name]
	for _, variable := range l.Variables() {
		if _, found := d.Lookups[variable]; found {
			if err := d.checkCircle(variable, append(before, name), fine); err != nil {
				return err
			}
		}
	}
	fine[name] = true
	return nil
}

// Variables lists those that a lookup's templates hold.
func (l Lookup) Variables() []string {
	list := l.Operation.Variables()
	for _, template := range l.Match {
		list = append(list, Variables(template)...)
	}
	return list
}

// checkRequest looks at what is sent, and returns the variables in it.
func (d *Description) checkRequest(at string, o Operation, variables []string) (used []string, err error) {
	switch {
	case o.Method != "" && !slices.Contains(methods, o.Method):
		return nil, wrong(at+".method", "%s is needed, not %q", strings.Join(methods, ", "), o.Method)
	case o.Path == "" || strings.Contains(o.Path, "://") || strings.HasPrefix(o.Path, "/"):
		return nil, wrong(at+".path", "a path relative to interface.url is needed")
	case o.bodies() > 1:
		return nil, wrong(at+".form", "one of body, form and text is sent, not several")
	case o.bodies() > 0 && (o.Method == "" || o.Method == "GET"):
		return nil, wrong(at+".method", "GET carries nothing: POST, PUT, PATCH or DELETE is needed")
	case o.SignIn != "" && o.SignIn != "password":
		return nil, wrong(at+".sign-in", `"password" is the only other way`)
	case o.SignIn == "password" && d.Interface.Password.Basic == "":
		return nil, wrong(at+".sign-in", "interface.password.basic must say how")
	case o.Dates != "" && !slices.Contains(datesForms, o.Dates):
		return nil, wrong(at+".dates", "the forms are %s", strings.Join(datesForms, ", "))
	}
	if err := checkHeaders(at+".headers.", o.Headers); err != nil {
		return nil, err
	}
	for field, form := range o.Cut {
		if compiled, err := regexp.Compile(form); err != nil || compiled.NumSubexp() != 1 || len(form) > 200 {
			return nil, wrong(at+".cut."+field, "a form (RE2) with one group is needed: what is in it is the value")
		}
		if len(o.Fields[field]) == 0 {
			return nil, wrong(at+".cut."+field, "there is no such field here")
		}
	}
	if _, err := uritemplate.New(o.Path); err != nil {
		return nil, wrong(at+".path", "not a URI template (RFC 6570)")
	}
	for _, field := range []struct{ place, text string }{{at + ".items", o.Items}, {at + ".refused", o.Refused}} {
		if field.text == "" {
			continue
		}
		if _, err := path(field.text); err != nil {
			return nil, wrong(field.place, "%s", err)
		}
	}
	for key, statuses := range map[string][]int{"success": o.Success, "already": o.Already, "gone": o.Gone} {
		if slices.ContainsFunc(statuses, func(s int) bool { return s < 200 || s > 599 }) {
			return nil, wrong(at+"."+key, "a list of HTTP status numbers is needed")
		}
	}
	paging, err := checkPaging(at+".paging", o)
	if err != nil {
		return nil, err
	}
	if err := checkWords(at+".words", o.Words); err != nil {
		return nil, err
	}
	used = o.Variables()
	return used, d.checkVariables(at, used, slices.Concat(variables, paging))
}

// checkPaging returns the variables that the paging gives to the templates.
func checkPaging(at string, o Operation) ([]string, error) {
	p := o.Paging
	for _, field := range []named{{"at", p.At}, {"last", p.Last}, {"more", p.More}} {
		if err := place(field.text); field.text != "" && err != nil {
			return nil, wrong(at+"."+field.place, "%s", err)
		}
	}
	holds := func(variable string) bool { return slices.Contains(o.Variables(), variable) }
	switch {
	case p.By == "" && p != Paging{}:
		return nil, wrong(at+".by", "missing: one of link, next, page, cursor, offset")
	case !slices.Contains([]string{"", "link", "next", "page", "cursor", "offset"}, p.By):
		return nil, wrong(at+".by", "one of link, next, page, cursor, offset is needed, not %q", p.By)
	case (p.By == "next" || p.By == "cursor") && p.At == "":
		return nil, wrong(at+".at", "missing: which part of the response names the next page")
	case (p.By == "page" || p.By == "cursor" || p.By == "offset") && !holds(p.By):
		return nil, wrong(at, "no template here holds {%s}, so every page would be the first", p.By)
	case p.By == "page" || p.By == "cursor" || p.By == "offset":
		return []string{p.By}, nil
	}
	return nil, nil
}

// checkVariables refuses a template that holds what nothing gives a value to.
func (d *Description) checkVariables(at string, used, given []string) error {
	for _, variable := range used {
		if _, found := d.Lookups[variable]; !found && !slices.Contains(given, variable) {
			all := slices.Concat(given, slices.Sorted(maps.Keys(d.Lookups)))
			return wrong(at, "{%s} has no value here%s", variable, strict.Meant(variable, all))
		}
	}
	return nil
}

func allVariables() []string {
	list := slices.Concat(everywhere, []string{"page", "cursor", "offset"})
	for _, kind := range Operations {
		list = append(list, kind.Takes...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// Variables lists those that an operation's templates hold.
func (o Operation) Variables() []string {
	var list []string
	if template, err := uritemplate.New(o.Path); err == nil {
		list = template.Varnames()
	}
	var collect func(value any)
	collect = func(value any) {
		switch v := value.(type) {
		case string:
			list = append(list, Variables(v)...)
		case []any:
			for _, item := range v {
				collect(item)
			}
		case map[string]any:
			for _, item := range v {
				collect(item)
			}
		}
	}
	collect(o.Body)
	collect(o.Form)
	collect(o.Text)
	collect(o.Entry)
	return list
}

// bodies counts in how many ways the request says what it carries.
func (o Operation) bodies() int {
	n := 0
	for _, there := range []bool{len(o.Body) > 0, len(o.Form) > 0, o.Text != ""} {
		if there {
			n++
		}
	}
	return n
}

// Takes tells whether a value has a place in the request.
func (o Operation) Takes(variable string) bool { return slices.Contains(o.Variables(), variable) }

// Variables lists those in a text: small letters, digits and "_" in braces, and nothing else
// there. Other braces stand for themselves.
func Variables(template string) []string {
	var list []string
	Fill(template, func(name string) string {
		list = append(list, name)
		return ""
	})
	return list
}

// Fill replaces each variable in a text by its value.
func Fill(template string, value func(name string) string) string {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(template, "{")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		name, after, closed := strings.Cut(rest, "}")
		if closed && allow.Variable(name) {
			b.WriteString(value(name))
			template = after
			continue
		}
		b.WriteString("{")
		template = rest
	}
}

// Whole returns the variable that is all that a text consists of.
func Whole(template string) (string, bool) {
	if list := Variables(template); len(list) == 1 && template == fmt.Sprintf("{%s}", list[0]) {
		return list[0], true
	}
	return "", false
}
