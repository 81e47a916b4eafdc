package hosts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"unicrux/core/sshkey"
)

// A RegisteredKey is a public key that a host knows for an account.
type RegisteredKey struct {
	ID     string // the host's own, needed to remove it
	Title  string // uncleaned
	Key    ssh.PublicKey
	Until  time.Time // when it ends there; zero for never, or where the host does not tell
	Used   time.Time // when it was last used; zero for never, or where the host does not tell
	Access Access    // empty where the host does not tell
}

// An Access is what a registered key may do.
type Access string

// The kinds of access.
const (
	Read  Access = "read"
	Write Access = "write"
)

// A KeyRequest is what a host is told about a key.
type KeyRequest struct {
	Key    ssh.PublicKey
	Title  string
	Until  time.Time // zero for no end
	Access Access    // empty for what the host gives by itself
}

// Reasons for which a host cannot be told all of a [KeyRequest], for errors.Is.
var (
	ErrNoUntil  = errors.New("the host's interface takes no end for a key")
	ErrNoAccess = errors.New("the host's interface takes no keys for reading only")
)

// Who asks the interface whose token this is.
func (c *Client) Who(ctx context.Context) (string, error) {
	items, err := c.do(ctx, "who", nil)
	if err != nil {
		return "", err
	}
	return c.oneField("who", "account", items)
}

// HostKeys asks for the keys that the host publishes as its own.
func (c *Client) HostKeys(ctx context.Context) ([]ssh.PublicKey, error) {
	items, err := c.do(ctx, "host-keys", nil)
	if err != nil {
		return nil, err
	}
	var keys []ssh.PublicKey
	for _, item := range items {
		key, _, err := sshkey.ParseLine([]byte(c.field("host-keys", "line", item)))
		if err != nil {
			return nil, fmt.Errorf("%w: a published host key cannot be read", ErrAnswer)
		}
		keys = append(keys, key)
	}
	return keys, nil
}

// Keys lists the account's registered keys. One that cannot be read is passed over: hosts
// keep old kinds that we do not know.
func (c *Client) Keys(ctx context.Context) ([]RegisteredKey, error) {
	items, err := c.do(ctx, "list-keys", nil)
	if err != nil {
		return nil, err
	}
	var keys []RegisteredKey
	for _, item := range items {
		key, _, err := sshkey.ParseLine([]byte(c.field("list-keys", "line", item)))
		if err != nil {
			continue
		}
		keys = append(keys, RegisteredKey{ID: c.field("list-keys", "id", item), Title: c.field("list-keys", "title", item), Key: key,
			Until: asTime(c.field("list-keys", "until", item)), Used: asTime(c.field("list-keys", "used", item)),
			Access: asAccess(c.field("list-keys", "access", item))})
	}
	return keys, nil
}

// CanTell tells why the host cannot be told all of a request, or nothing.
func (d *Description) CanTell(r KeyRequest) error {
	switch {
	case !r.Until.IsZero() && !d.Operations["add-key"].takes("until"):
		return ErrNoUntil
	case r.Access == Read && !d.Operations["add-key"].takes("access"):
		return ErrNoAccess
	}
	return nil
}

// takes tells whether a value has a place in the request.
func (o Operation) takes(name string) bool {
	for _, template := range o.Body {
		if strings.Contains(template, "{"+name+"}") {
			return true
		}
	}
	return strings.Contains(o.Path, name)
}

// AddKey registers a public key and returns the host's id for it. See [Description.CanTell].
func (c *Client) AddKey(ctx context.Context, r KeyRequest) (string, error) {
	with := values{"title": r.Title, "line": sshkey.Line(r.Key, ""), "until": "", "access": string(r.Access)}
	if !r.Until.IsZero() {
		with["until"] = r.Until.UTC().Format(time.RFC3339)
	}
	items, err := c.do(ctx, "add-key", with)
	if err != nil {
		return "", err
	}
	return c.oneField("add-key", "id", items)
}

// RemoveKey withdraws a registered key.
func (c *Client) RemoveKey(ctx context.Context, id string) error {
	_, err := c.do(ctx, "remove-key", values{"id": id})
	return err
}

// asTime reads a time or a day as hosts tell them (RFC 3339); zero for anything else.
func asTime(text string) time.Time {
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t
		}
	}
	return time.Time{}
}

func asAccess(text string) Access {
	if access := Access(text); access == Read || access == Write {
		return access
	}
	return ""
}

func (c *Client) field(operation, name string, item any) string {
	return asText(follow(item, c.Description.Operations[operation].Fields[name]))
}

func (c *Client) oneField(operation, name string, items []any) (string, error) {
	if len(items) == 1 {
		if text := c.field(operation, name, items[0]); text != "" {
			return text, nil
		}
	}
	return "", fmt.Errorf("%w: %s tells no %s", ErrAnswer, operation, name)
}
