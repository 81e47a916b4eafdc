package hostapi

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"anchorage.example/unicrux/core/describe"
)

// A value fills a variable of a template.
type value struct {
	text   string
	list   []string // where there are several; text is then empty
	number bool     // where it is all of a JSON value, it is a number
	nodes  []any    // JSON values as the host gave them, for a body; nil for none
}

func (v value) empty() bool { return v.text == "" && len(v.list) == 0 }

func (v value) String() string {
	if len(v.list) > 0 {
		return strings.Join(v.list, " ")
	}
	return v.text
}

// values fill the templates of an operation.
type values map[string]value

// texts makes values of pairs of names and texts.
func texts(pairs ...string) values {
	with := values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		with[pairs[i]] = value{text: pairs[i+1]}
	}
	return with
}

// complete adds the values that stand for themselves in templates: whose token it is, and what
// must be looked up.
func (c *Client) complete(ctx context.Context, variables []string, with values) error {
	for _, name := range variables {
		if _, found := with[name]; found {
			continue
		}
		if lookup, found := c.Description.Lookups[name]; found {
			v, err := c.look(ctx, name, lookup, with)
			if err != nil {
				return err
			}
			with[name] = v
			continue
		}
		if name == "account" {
			account, err := c.account(ctx)
			if err != nil {
				return err
			}
			with[name] = value{text: account}
		}
	}
	return nil
}

// account is whom the client speaks for.
func (c *Client) account(ctx context.Context) (string, error) {
	switch {
	case c.Account != "":
		return c.Account, nil
	case c.Description.ForAccount != "":
		return c.Description.ForAccount, nil
	case c.who == "" && c.Description.Can("who") && !strings.Contains(c.Description.Interface.Basic, "{account}"):
		if _, err := c.Who(ctx); err != nil {
			return "", err
		}
	}
	switch known := c.Token.Account(); {
	case c.who != "":
		return c.who, nil
	case known != "": // the chest noted it with the token
		return known, nil
	}
	return "", ErrWhose
}

func isNumber(places describe.Places, node *describe.Node) bool {
	nodes := describe.Follow(node, places[0])
	if len(places) != 1 || len(nodes) != 1 {
		return false
	}
	number, is := nodes[0].Value.(json.Number)
	return is && !strings.ContainsAny(number.String(), ".eE")
}

// ended adds an end in all the ways in which a host may be told it.
func (with values) ended(c *Client, o describe.Operation, until time.Time, now time.Time) {
	if until.IsZero() {
		return
	}
	form := o.Dates
	if form == "" {
		form = c.Description.Interface.Dates
	}
	v := value{number: true}
	switch form {
	case "day":
		v = value{text: until.Format(time.DateOnly)}
	case "seconds":
		v.text = strconv.FormatInt(until.Unix(), 10)
	case "milliseconds":
		v.text = strconv.FormatInt(until.UnixMilli(), 10)
	case "http":
		v = value{text: until.UTC().Format("Mon, 02 Jan 2006 15:04:05 GMT")}
	default:
		v = value{text: until.UTC().Format(time.RFC3339)}
	}
	with["until"] = v
	left := until.Sub(now)
	with["days"] = value{text: strconv.Itoa(max(1, int(left.Round(time.Hour).Hours())/24)), number: true}
	with["seconds"] = value{text: strconv.Itoa(max(1, int(left.Seconds()))), number: true}
}

// path expands the path of an operation [6570].
func expand(path string, with values) (string, error) {
	template, err := uritemplate.New(path)
	if err != nil {
		return "", err
	}
	variables := uritemplate.Values{}
	for _, name := range template.Varnames() {
		switch v := with[name]; {
		case len(v.list) > 0:
			variables.Set(name, uritemplate.List(v.list...))
		case v.text != "":
			variables.Set(name, uritemplate.String(v.text))
		}
	}
	return template.Expand(variables)
}

// translated gives the host's words for ours in a template that is all one variable.
func (c *Client) translated(o describe.Operation, template string, with values) (any, bool) {
	name, whole := describe.Whole(template)
	if !whole {
		return nil, false
	}
	v := with[name]
	if theirs, found := c.theirWord(o, name, v.text); found {
		return theirs, true
	}
	switch {
	case v.nodes != nil:
		return v.nodes, true
	case len(v.list) > 0:
		return v.list, true
	case v.number && v.text != "":
		return json.Number(v.text), true
	}
	return v.text, true
}

// filled replaces the variables in a value of a body. What comes out empty is left out, unless
// it stood there empty.
func (c *Client) filled(o describe.Operation, template any, with values) (any, bool) {
	switch t := template.(type) {
	case string:
		if v, whole := c.translated(o, t, with); whole {
			return v, v != ""
		}
		missing := false
		text := describe.Fill(t, func(name string) string {
			v := with[name]
			missing = missing || v.empty()
			if theirs, found := c.theirWord(o, name, v.text); found {
				return fmt.Sprint(theirs)
			}
			return v.String()
		})
		return text, !missing
	case []any:
		list := []any{}
		for _, item := range t {
			if v, keep := c.filled(o, item, with); keep {
				list = append(list, v)
			}
		}
		return list, len(list) > 0 || len(t) == 0
	case map[string]any:
		object := map[string]any{}
		for name, item := range t {
			if v, keep := c.filled(o, item, with); keep {
				object[name] = v
			}
		}
		return object, len(object) > 0 || len(t) == 0
	}
	return template, true
}

// body writes what is sent, and names its type; nothing where nothing is.
func (c *Client) body(o describe.Operation, with values) (text []byte, kind string, err error) {
	switch {
	case len(o.Body) > 0:
		object, _ := c.filled(o, o.Body, with)
		var b bytes.Buffer
		encoder := json.NewEncoder(&b)
		encoder.SetEscapeHTML(false)
		err = encoder.Encode(object)
		return bytes.TrimSpace(b.Bytes()), "application/json", err
	case len(o.Form) > 0:
		form := url.Values{}
		for name, template := range o.Form {
			v, keep := c.filled(o, template, with)
			if !keep {
				continue
			}
			switch v := v.(type) {
			case []string:
				form[name] = v
			case []any:
				for _, item := range v {
					form.Add(name, fmt.Sprint(item))
				}
			default:
				form.Set(name, fmt.Sprint(v))
			}
		}
		return []byte(form.Encode()), "application/x-www-form-urlencoded", nil
	case o.Text != "":
		text, _ := c.filled(o, o.Text, with)
		return []byte(fmt.Sprint(text)), "text/plain; charset=utf-8", nil
	}
	return nil, "", nil
}

// layouts are the forms in which hosts tell times, besides numbers.
var layouts = []string{time.RFC3339, time.DateOnly, "2006-01-02 15:04:05 MST", "2006-01-02 15:04:05 -0700",
	time.DateTime, "2006-01-02T15:04:05",
	time.RFC1123, time.RFC1123Z, "2006-01-02T15:04:05Z0700", "2006-01-02T15:04Z07:00"}

// asTime reads a time as hosts tell them: in one of several forms, or as seconds or
// milliseconds since 1970; zero for anything else.
func asTime(text string) time.Time {
	for _, layout := range layouts {
		if t, err := time.Parse(layout, text); err == nil {
			return t
		}
	}
	n, err := strconv.ParseFloat(text, 64)
	switch {
	case err != nil || n <= 0 || n > 1e14:
		return time.Time{}
	case n > 1e11: // a time in seconds would be after the year 5000
		return time.UnixMilli(int64(n)).UTC()
	}
	return time.Unix(int64(n), 0).UTC()
}
