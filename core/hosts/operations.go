package hosts

import (
	"context"
	"fmt"

	"golang.org/x/crypto/ssh"

	"unicrux/core/sshkey"
)

// A RegisteredKey is a public key that a host knows for an account.
type RegisteredKey struct {
	ID    string // the host's own, needed to remove it
	Title string // uncleaned
	Key   ssh.PublicKey
}

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
		keys = append(keys, RegisteredKey{ID: c.field("list-keys", "id", item), Title: c.field("list-keys", "title", item), Key: key})
	}
	return keys, nil
}

// AddKey registers a public key under a title and returns the host's id for it.
func (c *Client) AddKey(ctx context.Context, title string, key ssh.PublicKey) (string, error) {
	items, err := c.do(ctx, "add-key", values{"title": title, "line": sshkey.Line(key, "")})
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
