package hostapi

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
)

// Limits for an interface's answers.
const (
	maxAnswer = 4 << 20 // bytes of one page of any list, unpacked
	maxDepth  = 100     // of objects and lists in each other
	maxNodes  = 200_000 // values in one page
	maxDetail = 500     // bytes of the host's own words in a refusal
	maxItems  = 100_000 // of one list
	maxPages  = 2_000
)

// The reasons why a request of a [Client] fails that the host has not refused ([Refusal]), for errors.Is.
var (
	ErrNoOperation = fault.New("api-no-operation", fault.Refused, "the description does not say how to do this at the host")
	ErrUnreachable = fault.New("api-unreachable", fault.Refused, "the host's API cannot be reached")
	ErrAuthority   = fault.New("api-authority", fault.Refused, "the certificate of the host's API is not trusted")
	ErrAnswer      = fault.New("api-answer", fault.Refused, "the host's API answers something that its description does not expect")
	ErrPage        = fault.New("api-page", fault.Refused, "the host answers with a web page where its API should be")
	ErrRedirect    = fault.New("api-redirect", fault.Refused, "the host's API redirects to another place, where no secret may go")
	ErrEndless     = fault.New("api-endless", fault.Refused, "the host's list has no end")
	ErrBusy        = fault.New("api-busy", fault.Refused, "the host asks us to come again later")
	ErrWhose       = fault.New("api-whose", fault.Misused, "the host needs to know which account it is for")
	ErrAlready     = fault.New("api-already", fault.Refused, "the host has it already")
	ErrNotFound    = fault.New("api-not-found", fault.Refused, "the host lists nothing of that name for this account")
	ErrGone        = fault.New("api-gone", fault.Refused, "the host has no such thing")
)

// A Refusal is the host's own "no".
type Refusal struct {
	Status  int    // HTTP status
	Message string // the host's, uncleaned
	Means   string // the code that the description says these words mean; empty for none
}

func (r *Refusal) Error() string {
	words := r.Message
	if words == "" {
		words = http.StatusText(r.Status)
	}
	return fmt.Sprintf("the host refuses (HTTP %d): %s", r.Status, words)
}

// Refused tells that the host did nothing. A fault of its own leaves that open.
func (r *Refusal) Refused() bool { return r.Status < http.StatusInternalServerError }

// A Client speaks to one host's interface. It is not for several goroutines at once.
type Client struct {
	Description *describe.Description
	Token       origin.Bound  // empty for what anybody may ask; it goes to the interface if it was kept for that
	Timeout     time.Duration // for one request; 0 means 10 seconds

	// Account signs in with Password where the host issues tokens only for that.
	Account  string
	Password secret.Text
	// SignIn gives the client an account and its password when an operation wants them first; nil where nobody can.
	SignIn func(*Client) error
	Second func() (secret.Text, error) // asks for the code of a second step; nil where nobody can be asked

	// Choose asks which of several things that a lookup finds is meant, and returns its index; nil where nobody can
	// be asked.
	Choose func(d *describe.Description, lookup string, choices []Choice) (int, error)

	Waits func(until time.Duration) // is told before the client waits because the host asks for it; may be nil

	line *http.Client
	code secret.Text // of the second step
	who  string
	seen map[string]value // what lookups found
}

// A result is one thing that an operation found.
type result struct {
	client    *Client
	operation describe.Operation
	node      *describe.Node
	headers   http.Header
}

// do carries out an operation that has one result, or none.
func (c *Client) do(ctx context.Context, name string, with values) (result, error) {
	operation, found := c.Description.Operations[name]
	if !found {
		return result{}, fmt.Errorf("%s: %w", name, ErrNoOperation)
	}
	return c.first(ctx, operation, with)
}

// first carries out an operation and returns its first result, which is empty where there is none.
func (c *Client) first(ctx context.Context, operation describe.Operation, with values) (result, error) {
	var first *result
	err := c.each(ctx, operation, with, func(r result) bool {
		if first == nil {
			first = &r
		}
		return true
	})
	if err != nil || first == nil {
		return result{client: c, operation: operation}, err
	}
	return *first, nil
}

// list carries out an operation that has any number of results, and hands them on as they
// come, until take returns false.
func (c *Client) list(ctx context.Context, name string, with values, take func(result) bool) error {
	operation, found := c.Description.Operations[name]
	if !found {
		return fmt.Errorf("%s: %w", name, ErrNoOperation)
	}
	return c.each(ctx, operation, with, take)
}

// text is the value of a field, translated into our words; empty where there is none.
func (r result) text(field string) string {
	list := r.operation.Fields[field].Values(r.node, r.headers)
	if len(list) == 0 {
		return ""
	}
	text := strings.Join(list, " ")
	if form, found := r.operation.Cut[field]; found {
		match := regexp.MustCompile(form).FindStringSubmatch(text) // it was looked at when the description was read
		if match == nil {
			return ""
		}
		text = match[1]
	}
	if ours, found := r.client.ourWord(r.operation, field, text); found {
		return ours
	}
	if r.client.hasWords(r.operation, field) {
		return ""
	}
	return text
}

// texts are all values of a field; those that come as one text are taken apart.
func (r result) texts(field string) []string {
	list := r.operation.Fields[field].Values(r.node, r.headers)
	if len(list) == 1 {
		return strings.FieldsFunc(list[0], func(c rune) bool { return c == ' ' || c == ',' })
	}
	return list
}

// need is text for a field that there must be.
func (r result) need(operation, field string) (string, error) {
	if text := r.text(field); text != "" {
		return text, nil
	}
	return "", fmt.Errorf("%w: %s reports no %s", ErrAnswer, operation, field)
}

// hasWords tells whether the host says our words for a field otherwise.
func (c *Client) hasWords(o describe.Operation, field string) bool {
	return len(o.Words[field]) > 0 || len(c.Description.Words[field]) > 0
}

func (c *Client) words(o describe.Operation, field string) map[string]any {
	if words := o.Words[field]; len(words) > 0 {
		return words
	}
	return c.Description.Words[field]
}

// ourWord finds our word for the host's.
func (c *Client) ourWord(o describe.Operation, field, text string) (string, bool) {
	for ours, theirs := range c.words(o, field) {
		list, several := theirs.([]any)
		if !several {
			list = []any{theirs}
		}
		if slices.ContainsFunc(list, func(v any) bool { return fmt.Sprint(v) == text }) {
			return ours, true
		}
	}
	return "", false
}

// theirWord finds the host's word for ours, of the type that it has in the description.
func (c *Client) theirWord(o describe.Operation, field, text string) (any, bool) {
	theirs, found := c.words(o, field)[text]
	if list, several := theirs.([]any); several {
		theirs = list[0]
	}
	return theirs, found
}
