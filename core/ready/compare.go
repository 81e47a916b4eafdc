package ready

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

	"unicrux/core/desktop"
	"unicrux/core/hosts"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
	"unicrux/core/workstation"
)

// ErrNotThere is returned for a key that the host does not know for this account.
var ErrNotThere = errors.New("the host does not know this key for the account of this token")

// A Compared is a key that is here, or that a host knows, or both.
type Compared struct {
	Pair  *sshkey.Pair         // nil when it is not here
	There *hosts.RegisteredKey // nil when the host does not know it
}

// Compare holds the keys of this home against those that a host knows for the account of a
// token: first those that are both, then those that only the host has, then those only here.
func (p Place) Compare(ctx context.Context, host *hosts.Description, token secret.Text) ([]Compared, error) {
	client := &hosts.Client{Description: host, Token: token, Timeout: p.Timeout}
	registered, err := client.Keys(ctx)
	if err != nil {
		return nil, err
	}
	local := sshkey.Search(p.Station.Home)
	var both, there, here []Compared
	for i := range registered {
		pair := findPair(local, registered[i].Key)
		if pair == nil {
			there = append(there, Compared{There: &registered[i]})
		} else {
			both = append(both, Compared{Pair: pair, There: &registered[i]})
		}
	}
	for _, pair := range local {
		if pair.Public != nil && findRegistered(registered, pair.Public) == nil {
			here = append(here, Compared{Pair: pair})
		}
	}
	return append(append(both, there...), here...), nil
}

func dateText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func findPair(pairs []*sshkey.Pair, key ssh.PublicKey) *sshkey.Pair {
	for _, pair := range pairs {
		if pair.Public != nil && bytes.Equal(pair.Public.Marshal(), key.Marshal()) {
			return pair
		}
	}
	return nil
}

func findRegistered(keys []hosts.RegisteredKey, key ssh.PublicKey) *hosts.RegisteredKey {
	for i := range keys {
		if bytes.Equal(keys[i].Key.Marshal(), key.Marshal()) {
			return &keys[i]
		}
	}
	return nil
}

// Withdraw makes a host forget a key. The step is recorded with what is needed to tell the
// host again.
func (p Place) Withdraw(ctx context.Context, batch *workstation.Batch, pair *sshkey.Pair, host *hosts.Description, token secret.Text) (*hosts.RegisteredKey, error) {
	client := &hosts.Client{Description: host, Token: token, Timeout: p.Timeout}
	keys, err := client.Keys(ctx)
	if err != nil {
		return nil, err
	}
	known := findRegistered(keys, pair.Public)
	if known == nil {
		return nil, ErrNotThere
	}
	step := workstation.HostStep{Host: host.Name, Act: hosts.ActRemove, Data: map[string]string{
		"id": known.ID, "title": known.Title, "line": sshkey.Line(known.Key, ""), "fingerprint": sshkey.Fingerprint(known.Key),
		"until": dateText(known.Until), "access": string(known.Access)}}
	return known, batch.Act(fmt.Sprintf("Withdraw %s from %s.", pair.Name(), host.Name), step, func() (map[string]string, error) {
		return nil, client.RemoveKey(ctx, known.ID)
	})
}

// TakeBack takes back what was told to a host. What is as it was before is no error.
func (p Place) TakeBack(ctx context.Context, step workstation.HostStep, token func(*hosts.Description) (secret.Text, error)) error {
	if step.Act == actKeep {
		if err := desktop.Forget(step.Data["name"]); !errors.Is(err, desktop.ErrNone) {
			return err
		}
		return nil
	}
	if step.Act == hosts.ActSee {
		return nil // it was only seen
	}
	host, err := p.Registry.Find(step.Host)
	if err != nil {
		return err
	}
	client := &hosts.Client{Description: host, Timeout: p.Timeout}
	if client.Token, err = token(host); err != nil {
		return err
	}
	id, known := step.Data["id"], true
	if host.Can("list-keys") { // by its fingerprint: the number may not have been recorded in time
		keys, err := client.Keys(ctx)
		if err != nil {
			return err
		}
		known = false
		for _, key := range keys {
			if sshkey.Fingerprint(key.Key) == step.Data["fingerprint"] {
				id, known = key.ID, true
			}
		}
	}
	switch {
	case step.Act == hosts.ActAdd && known:
		return client.RemoveKey(ctx, id)
	case step.Act == hosts.ActRemove && !known:
		key, _, err := sshkey.ParseLine([]byte(step.Data["line"]))
		if err != nil {
			return err
		}
		request := hosts.KeyRequest{Key: key, Title: step.Data["title"], Access: hosts.Access(step.Data["access"])}
		request.Until, _ = time.Parse(time.RFC3339, step.Data["until"]) // none is no end
		if host.CanTell(request) != nil {
			request.Until, request.Access = time.Time{}, ""
		}
		_, err = client.AddKey(ctx, request)
		return err
	}
	return nil
}
