package hostapi

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"

	"anchorage.example/unicrux/core/describe"
)

// A list that is replaced as a whole is read immediately before it is written, and written only where it is still the
// same: with the strong entity tag that came with it (RFC 9110, sections 8.8.3 and 13.1.1), where the host sends one.

// replace carries out an operation that may replace a whole list; remove says what is to be taken out of it. Where
// somebody else changed the list in between, it is read once more.
func (c *Client) replace(ctx context.Context, name string, with values, remove func(result) bool) (result, error) {
	o, known := c.Description.Operations[name]
	if !known {
		return result{}, fmt.Errorf("%s: %w", name, ErrNoOperation)
	}
	if o.Whole == "" {
		return c.first(ctx, o, with)
	}
	for again := false; ; again = true {
		tag, err := c.whole(ctx, o, with, remove)
		if err != nil {
			return result{}, err
		}
		guarded := o
		if tag != "" {
			guarded.Headers = map[string]string{"If-Match": tag}
			maps.Copy(guarded.Headers, o.Headers)
		}
		found, err := c.first(ctx, guarded, with)
		var refusal *Refusal
		if again || !errors.As(err, &refusal) || refusal.Status != http.StatusPreconditionFailed {
			return found, err
		}
	}
}

// whole reads the list that an operation replaces, and gives {entries}: with the new entry, or without those that
// remove says. tag is the entity tag of the list; empty where there is none.
func (c *Client) whole(ctx context.Context, o describe.Operation, with values, remove func(result) bool) (tag string,
	err error) {
	if err := c.complete(ctx, o.Variables(), with); err != nil {
		return "", err
	}
	entries := []any{}
	listing := values{}
	for _, name := range []string{"repo", "owner", "name"} {
		if v, given := with[name]; given {
			listing[name] = v
		}
	}
	pages := 0
	err = c.list(ctx, o.Whole, listing, func(r result) bool {
		if t := r.headers.Get("ETag"); t != tag {
			tag = t
			pages++
		}
		if remove == nil || !remove(r) {
			entries = append(entries, r.node.Value)
		}
		return true
	})
	if err != nil {
		return "", err
	}
	if o.Entry != nil {
		if entry, keep := c.filled(o, o.Entry, with); keep {
			entries = append(entries, entry)
		}
	}
	with["entries"] = value{nodes: entries}
	if pages != 1 { // of several pages none speaks for the whole
		tag = ""
	}
	return tag, nil
}
