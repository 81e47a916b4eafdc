package chest

import (
	"encoding/json"
	"errors"

	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/secret"
)

// atDesktop is the name of an entry's secret at the desktop.
func atDesktop(e Entry) string { return "token " + e.Name }

// putElsewhere keeps the secret of an entry that is not sealed in the file.
func (c *Chest) putElsewhere(e Entry, text []byte) error {
	if e.Kind == Desktop {
		return desktop.Keep(atDesktop(e), secret.New(text))
	}
	question, err := json.Marshal(keepRequest{e.Name, text})
	if err != nil {
		return err
	}
	_, err = query.Holder(c.socket, keepQuestion, question)
	return err
}

func (c *Chest) getElsewhere(e Entry) ([]byte, error) {
	if e.Kind == Desktop {
		text, err := desktop.Get(atDesktop(e))
		if errors.Is(err, desktop.ErrNone) {
			err = ErrLost
		}
		return text.Reveal(), err
	}
	text, err := query.Holder(c.socket, giveQuestion, []byte(e.Name))
	if errors.Is(err, query.ErrStuck) {
		return nil, closed(err)
	}
	if err != nil {
		return nil, ErrLost
	}
	return text, nil
}

func (c *Chest) removeElsewhere(e Entry) error {
	switch e.Kind {
	case Desktop:
		if err := desktop.Forget(atDesktop(e)); !errors.Is(err, desktop.ErrNone) {
			return err
		}
	case Memory:
		_ = c.putElsewhere(e, nil) // without a holder there is nothing to forget
	}
	return nil
}

// Move moves every secret to another kind of place. Each is in its new place, and was read
// back from there, before it leaves the old one.
func (c *Chest) Move(to Kind) (moved []string, err error) {
	if err := c.Allows(to); err != nil {
		return nil, err
	}
	list, err := c.List()
	if err != nil {
		return nil, err
	}
	for _, e := range list {
		if e.Kind == to {
			continue
		}
		s, err := c.Get(e)
		if err != nil {
			return moved, err
		}
		after := e
		after.Kind = to
		if _, err := c.Put(after, s); err != nil {
			return moved, err
		}
		if again, err := c.Get(after); err != nil || string(again.Token.Reveal()) != string(s.Token.Reveal()) {
			return moved, errors.Join(ErrLost, err)
		}
		if err := c.removeElsewhere(e); err != nil {
			return moved, err
		}
		moved = append(moved, e.Name)
	}
	return moved, c.SetKind(to)
}
