package hostapi

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/untrusted"
)

// A Choice is one of several things that a lookup finds.
type Choice struct {
	Value string // what stands for it in requests
	Label string // what a person knows it by; uncleaned
}

// ErrChoose is returned where a lookup finds several things and nobody chose one; the error is a *[ChoiceError].
var ErrChoose = errors.New("the host has several, and one must be chosen")

// A ChoiceError names what a person has to choose from.
type ChoiceError struct {
	Host, Lookup string
	Chosen       string // what was chosen before and is not there; empty for nothing
	Choices      []Choice
}

func (e *ChoiceError) Error() string {
	labels := make([]string, len(e.Choices))
	for i, choice := range e.Choices {
		labels[i] = untrusted.Clean(choice.Label)
	}
	list := strings.Join(labels, ", ")
	if e.Chosen != "" {
		return fmt.Sprintf("%s has no %s %q; it has %s", e.Host, e.Lookup, e.Chosen, list)
	}
	return fmt.Sprintf("%s has several of %s, and one must be chosen: %s", e.Host, e.Lookup, list)
}

// Unwrap returns [ErrChoose].
func (e *ChoiceError) Unwrap() error { return ErrChoose }

// found is a value that a lookup found, and its label.
type found struct {
	value
	label string
}

// look finds a value at the host. What does not depend on the request is found once.
func (c *Client) look(ctx context.Context, name string, l describe.Lookup, with values) (value, error) {
	variables := l.Variables()
	if err := c.complete(ctx, variables, with); err != nil {
		return value{}, err
	}
	key := name
	for _, variable := range variables {
		key += "\x00" + with[variable].String()
	}
	if v, seen := c.seen[key]; seen {
		return v, nil
	}
	list, err := c.candidates(ctx, l, with)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return value{}, fmt.Errorf("looking up %s: %w", name, err)
	}
	v, err := c.choose(name, l, list)
	if err != nil {
		return value{}, err
	}
	if c.seen == nil {
		c.seen = map[string]value{}
	}
	c.seen[key] = v
	return v, nil
}

// candidates lists what fits a lookup: the first alone, where nobody is asked to choose.
func (c *Client) candidates(ctx context.Context, l describe.Lookup, with values) ([]found, error) {
	var list []found
	err := c.each(ctx, l.Operation, with, func(r result) bool {
		for place, template := range l.Match {
			want := describe.Fill(template, func(name string) string { return with[name].String() })
			if !slices.Equal(describe.Places{place}.Values(r.node, r.headers), []string{want}) {
				return true
			}
		}
		if text := strings.Join(l.Value.Values(r.node, r.headers), " "); text != "" {
			list = append(list, found{value{text: text, number: isNumber(l.Value, r.node)},
				strings.Join(l.Ask.Values(r.node, r.headers), " ")})
		}
		return len(list) == 0 || len(l.Ask) > 0
	})
	return list, err
}

// choose picks one of what a lookup found: the only one, the one that a person chose before, or the one that she
// chooses now.
func (c *Client) choose(name string, l describe.Lookup, list []found) (value, error) {
	if len(l.Ask) == 0 {
		return list[0].value, nil
	}
	chosen, before := c.Description.Chosen[name]
	choices := make([]Choice, len(list))
	for i, one := range list {
		if before && (one.text == chosen || one.label == chosen) {
			return one.value, nil
		}
		choices[i] = Choice{one.text, one.label}
	}
	switch {
	case before:
		return value{}, &ChoiceError{c.Description.Name, name, chosen, choices}
	case len(list) == 1:
		return list[0].value, nil
	case c.Choose == nil:
		return value{}, &ChoiceError{c.Description.Name, name, "", choices}
	}
	i, err := c.Choose(c.Description, name, choices)
	if err != nil {
		return value{}, err
	}
	return list[i].value, nil
}
