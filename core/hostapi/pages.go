package hostapi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/describe"
)

// each carries out an operation and hands on its results, page by page.
func (c *Client) each(ctx context.Context, o describe.Operation, given values, take func(result) bool) error {
	with := values{}
	maps.Copy(with, given)
	if o.SignIn == "password" && c.Password.Empty() && c.SignIn != nil {
		if err := c.SignIn(c); err != nil {
			return err
		}
	}
	if err := c.complete(ctx, o.Variables(), with); err != nil {
		return err
	}
	turn := &turning{operation: o, with: with}
	turn.begin()
	taken := 0
	for {
		r, err := c.request(o, with, turn.next)
		if err != nil {
			return err
		}
		a, err := c.send(ctx, r)
		if err != nil {
			return err
		}
		node, err := c.done(o, a)
		switch {
		case errors.Is(err, ErrGone) && turn.pages > 0: // some hosts say so behind the last page
			return nil
		case err != nil:
			return err
		}
		found, err := items(o, node)
		if err != nil {
			return err
		}
		if taken += len(found); taken > maxItems {
			return fmt.Errorf("%w: more than %d entries", ErrEndless, maxItems)
		}
		for _, item := range found {
			if !take(result{c, o, item, a.headers}) {
				return nil
			}
		}
		more, err := turn.goOn(c, a, node, len(found))
		if err != nil || !more {
			return err
		}
	}
}

// request makes a request of an operation, or goes on at an address that the host gave.
func (c *Client) request(o describe.Operation, with values, next *url.URL) (request, error) {
	r := request{operation: o, target: next}
	var err error
	if r.body, r.kind, err = c.body(o, with); err != nil || next != nil {
		return r, err
	}
	path, err := expand(o.Path, with)
	if err != nil {
		return r, fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	base, err := url.Parse(c.Description.Interface.URL)
	if err != nil {
		return r, err
	}
	if r.target, err = base.Parse(path); err != nil || !c.inside(r.target) {
		return r, fmt.Errorf("%w: the path leads out of the API", ErrAnswer)
	}
	return r, nil
}

// turning goes through the pages of a list.
type turning struct {
	operation describe.Operation
	with      values
	next      *url.URL // where the host says that it goes on
	number    int      // of the page, or of the first result on it
	pages     int
	before    []byte // the page before
}

func (t *turning) begin() {
	switch t.operation.Paging.By {
	case "page":
		t.number = max(t.operation.Paging.First, 0)
		if t.operation.Paging.First == 0 {
			t.number = 1
		}
		t.with["page"] = value{text: strconv.Itoa(t.number), number: true}
	case "offset":
		t.with["offset"] = value{text: "0", number: true}
	}
}

// goOn settles where the next page is, if there is one.
func (t *turning) goOn(c *Client, a answer, node *describe.Node, found int) (bool, error) {
	p := t.operation.Paging
	if p.By == "" {
		return false, nil
	}
	if t.pages++; t.pages > maxPages {
		return false, fmt.Errorf("%w: more than %d pages", ErrEndless, maxPages)
	}
	if found > 0 && bytes.Equal(t.before, a.text) {
		return false, fmt.Errorf("%w: the same page comes again", ErrEndless)
	}
	t.before = a.text
	if p.More != "" {
		if more := one(p.More, node, a); more == "" || more == "false" || more == "0" {
			return false, nil
		}
	}
	switch p.By {
	case "link":
		if next := nextLink(a.headers.Values("Link")); next != "" {
			return t.goTo(c, next)
		}
		return false, nil
	case "next":
		return t.goTo(c, one(p.At, node, a))
	case "cursor":
		at := one(p.At, node, a)
		if at != "" && at == t.with["cursor"].text {
			return false, fmt.Errorf("%w: the same place comes again", ErrEndless)
		}
		t.with["cursor"] = value{text: at}
		return at != "" && (found > 0 || p.More != ""), nil
	case "offset":
		t.number += found
		if at := one(p.At, node, a); at != "" {
			t.number, _ = strconv.Atoi(at)
		}
		t.with["offset"] = value{text: strconv.Itoa(t.number), number: true}
		return found > 0, nil
	}
	if last := one(p.Last, node, a); last != "" {
		if n, err := strconv.Atoi(last); err != nil || t.number >= n {
			return false, nil
		}
	}
	t.number++
	t.with["page"] = value{text: strconv.Itoa(t.number), number: true}
	return found > 0, nil
}

// goTo takes an address that the host gives, if it lies within its interface: the token goes
// with the request.
func (t *turning) goTo(c *Client, text string) (bool, error) {
	if text == "" {
		return false, nil
	}
	base, err := url.Parse(c.Description.Interface.URL)
	if err != nil {
		return false, err
	}
	if t.next != nil {
		base = t.next
	}
	next, err := base.Parse(text)
	if err != nil || !c.inside(next) {
		return false, ErrRedirect
	}
	if t.next != nil && t.next.String() == next.String() {
		return false, fmt.Errorf("%w: the same page comes again", ErrEndless)
	}
	t.next = next
	return true, nil
}

func one(place string, node *describe.Node, a answer) string {
	if place == "" {
		return ""
	}
	return strings.Join(describe.Places{place}.Values(node, a.headers), " ")
}
