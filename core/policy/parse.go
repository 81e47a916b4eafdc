package policy

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/strict"
)

// The words that stand for something.
var (
	levels = []string{string(Off), string(Tell), string(Should), string(Must)}
	kinds  = []string{"ed25519", "ed25519-sk", "ecdsa", "ecdsa-sk", "rsa"}
	places = []string{"sealed", "desktop", "memory"}
)

// document is the file.
type document struct {
	Unicrux int            `toml:"unicrux"` // the form of the file
	Name    string         `toml:"name"`
	Version string         `toml:"version"`
	Rules   map[string]any `toml:"rules"`
	Except  []Exception    `toml:"except"`
}

// Parse reads a policy. Every failure is a *[strict.Error].
func Parse(text []byte) (Policy, error) {
	var file document
	if err := strict.Decode(text, &file); err != nil {
		return Policy{}, err
	}
	p, err := file.policy()
	var wrong *strict.Error
	if errors.As(err, &wrong) {
		wrong.Line = strict.LineOf(text, wrong.Place)
	}
	return p, err
}

func (d document) policy() (Policy, error) {
	if d.Unicrux != 1 {
		return Policy{}, wrong("unicrux", "it is the form of the file, and must be 1")
	}
	p := Policy{Name: d.Name, Version: d.Version, Except: d.Except, Rules: map[string]Rule{}}
	for _, code := range slices.Sorted(maps.Keys(d.Rules)) {
		rule, err := parseRule(code, d.Rules[code])
		if err != nil {
			return Policy{}, err
		}
		p.Rules[code] = rule
	}
	for i, e := range d.Except {
		if err := e.check(fmt.Sprintf("except[%d]", i)); err != nil {
			return Policy{}, err
		}
	}
	return p, nil
}

// parseRule reads a rule: its level alone, or a table with it.
func parseRule(code string, value any) (rule Rule, err error) {
	at := "rules." + code
	c, isKnown := Of(code)
	if !isKnown {
		return rule, wrong(at, "a rule that is not known%s", strict.Meant(code, names()))
	}
	fields := c.Fields
	table, isTable := value.(map[string]any)
	if !isTable {
		table = map[string]any{"level": value}
	}
	for _, field := range slices.Sorted(maps.Keys(table)) {
		if field != "level" && !slices.Contains(fields, field) {
			return rule, wrong(at+"."+field, "a word that the rule does not know%s",
				strict.Meant(field, append([]string{"level"}, fields...)))
		}
		if err := rule.set(at+"."+field, field, table[field]); err != nil {
			return rule, err
		}
	}
	switch {
	case rule.Level == "":
		return rule, wrong(at, "it has no level: %s", strings.Join(levels, ", "))
	case rule.Level == Off || len(fields) == 0:
		return rule, nil
	case rule.asks(c):
		return rule, nil
	default:
		return rule, wrong(at, "it does not say what is asked for: %s", strings.Join(fields, " or "))
	}
}

// asks tells whether a rule says what it asks for, or means something without it.
func (r Rule) asks(c Code) bool {
	return r.RSA+r.Days > 0 || len(r.Kinds)+len(r.Places)+len(r.Scopes)+len(r.Authorities) > 0 ||
		c.Default.Level != Off
}

// names are those of all rules.
func names() []string {
	var list []string
	for _, c := range codes {
		list = append(list, c.Name)
	}
	return list
}

// set reads one word of a rule.
func (r *Rule) set(at, field string, value any) (err error) {
	switch field {
	case "level":
		var list []string
		if list, err = words(at, []any{value}, levels); err == nil {
			r.Level = Level(list[0])
		}
	case "rsa":
		r.RSA, err = number(at, value)
	case "days":
		r.Days, err = number(at, value)
	case "kinds":
		r.Kinds, err = words(at, value, kinds)
	case "places":
		r.Places, err = words(at, value, places)
	case "scopes":
		r.Scopes, err = texts(at, value, nil)
	case "authorities":
		r.Authorities, err = texts(at, value, sshkey.IsFingerprint)
	}
	return err
}

// number reads a number of at least 1 that a policy can mean.
func number(at string, value any) (int, error) {
	n, ok := value.(int64)
	if !ok || n < 1 || n > 100_000 {
		return 0, wrong(at, "it must be a number from 1 to 100000")
	}
	return int(n), nil
}

// words reads a list of words, each of which must be among those that there are.
func words(at string, value any, among []string) ([]string, error) {
	list, _ := value.([]any)
	var all []string
	for _, v := range list {
		word, _ := v.(string)
		if !slices.Contains(among, word) {
			return nil, wrong(at, "%q is not known here%s", fmt.Sprint(v), strict.Meant(word, among))
		}
		all = append(all, word)
	}
	if len(all) == 0 {
		return nil, wrong(at, "it must be a list of %s", strings.Join(among, ", "))
	}
	return all, nil
}

// texts reads a list of texts, each of which must be as it is meant.
func texts(at string, value any, meant func(string) bool) ([]string, error) {
	list, _ := value.([]any)
	var all []string
	for _, v := range list {
		text, isText := v.(string)
		if !isText || text == "" || meant != nil && !meant(text) {
			return nil, wrong(at, "%q cannot be meant here", fmt.Sprint(v))
		}
		all = append(all, text)
	}
	if len(all) == 0 {
		return nil, wrong(at, "it must be a list of texts")
	}
	return all, nil
}

// check asks for all that makes an exception one that somebody answers for.
func (e Exception) check(at string) error {
	_, isKnown := Of(e.Rule)
	switch {
	case !isKnown:
		return wrong(at+".rule", "a rule that is not known%s", strict.Meant(e.Rule, names()))
	case e.Person == "" && e.Thing == "":
		return wrong(at, "it has neither a person nor a thing")
	case e.Until.Year == 0:
		return wrong(at, "it has no end: until = 2027-03-31")
	case e.Why == "":
		return wrong(at, "it has no reason: why = \"…\"")
	}
	return nil
}

func wrong(at, format string, args ...any) error {
	return &strict.Error{Place: at, Message: fmt.Sprintf(format, args...)}
}
