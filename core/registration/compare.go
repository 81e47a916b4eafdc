package registration

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// ErrNotThere is returned for a key that the host does not know for this account.
var ErrNotThere = fault.New("key-not-registered-there", fault.Refused, "the host does not know this key for the account of this token")

// A Compared is a key that is here, or that a host knows, or both.
type Compared struct {
	Pair  *sshkey.Pair           // nil when it is not here
	There *hostapi.RegisteredKey // nil when the host does not know it
}

// Compare holds the keys of this home against those that a host knows for the account of a
// token: first those that are both, then those that only the host has, then those only here.
func Compare(ctx context.Context, p site.Site, host *describe.Description, list hostapi.KeyList,
	token origin.Bound) ([]Compared, error) {
	registered, err := p.Client(host, token).Keys(ctx, list)
	if err != nil {
		return nil, err
	}
	local := sshkey.Search(p.Station.Home)
	var both, there, here []Compared
	for i := range registered {
		pair := FindPair(local, registered[i].Key)
		if pair == nil {
			there = append(there, Compared{There: &registered[i]})
		} else {
			both = append(both, Compared{Pair: pair, There: &registered[i]})
		}
	}
	for _, pair := range local {
		if pair.Public != nil && FindRegistered(registered, pair.Public) == nil {
			here = append(here, Compared{Pair: pair})
		}
	}
	return append(append(both, there...), here...), nil
}

// mostTried bounds how many keys a host is asked about one by one: more would look like an
// attack.
const mostTried = 12

// CompareByTrying finds which keys of this home a host takes, where it lists none: the host is
// asked about one after another, and nobody signs in. What it knows besides stays unknown. More
// tells that there are keys that it was not asked about.
func CompareByTrying(ctx context.Context, p site.Site, host *describe.Description) (list []Compared,
	more bool, err error) {
	var both, here []Compared
	for _, pair := range sshkey.Search(p.Station.Home) {
		if pair.Public == nil {
			continue
		}
		if len(both)+len(here) == mostTried {
			more = true
			break
		}
		taken, err := Takes(ctx, p, host, pair)
		switch {
		case err != nil:
			return nil, false, err
		case taken:
			both = append(both, Compared{Pair: pair, There: &hostapi.RegisteredKey{Key: pair.Public}})
		default:
			here = append(here, Compared{Pair: pair})
		}
	}
	return append(both, here...), more, nil
}

func dateText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func FindPair(pairs []*sshkey.Pair, key ssh.PublicKey) *sshkey.Pair {
	for _, pair := range pairs {
		if pair.Public != nil && bytes.Equal(pair.Public.Marshal(), key.Marshal()) {
			return pair
		}
	}
	return nil
}

func FindRegistered(keys []hostapi.RegisteredKey, key ssh.PublicKey) *hostapi.RegisteredKey {
	for i := range keys {
		if bytes.Equal(keys[i].Key.Marshal(), key.Marshal()) {
			return &keys[i]
		}
	}
	return nil
}

// Withdraw makes a host forget a key of one of its lists. The step is recorded with what is needed to tell the
// host again.
func Withdraw(ctx context.Context, p site.Site, batch *workstation.Batch, pair *sshkey.Pair,
	host *describe.Description, list hostapi.KeyList, token origin.Bound) (*hostapi.RegisteredKey, error) {
	client := p.Client(host, token)
	keys, err := client.Keys(ctx, list)
	if err != nil {
		return nil, err
	}
	known := FindRegistered(keys, pair.Public)
	if known == nil {
		return nil, ErrNotThere
	}
	step := workstation.HostStep{Host: host.Name, Act: hosts.ActRemove, Data: map[string]string{
		"id": known.ID, "title": known.Title, "line": sshkey.Line(known.Key, ""),
		"fingerprint": sshkey.Fingerprint(known.Key),
		"until":       dateText(known.Until), "access": string(known.Access)}}
	list.Note(step.Data)
	return known, batch.Act(ctx, fmt.Sprintf("Withdraw %s from %s.", pair.Name(), host.Name), step,
		func() (map[string]string, error) {
			return nil, client.RemoveKey(ctx, *known, list)
		})
}

// TakeBack takes back that a key was registered or withdrawn.
func TakeBack(ctx context.Context, client *hostapi.Client, step workstation.HostStep) error {
	host, list := client.Description, hostapi.KeyListOf(step.Data)
	key, known := hostapi.RegisteredKey{ID: step.Data["id"], Title: step.Data["title"]}, true
	if host.Can(list.Operation("list")) { // by its fingerprint: the number may not have been recorded in time
		keys, err := client.Keys(ctx, list)
		if err != nil {
			return err
		}
		known = false
		for _, there := range keys {
			if sshkey.Fingerprint(there.Key) == step.Data["fingerprint"] {
				key, known = there, true
			}
		}
	}
	switch {
	case step.Act == hosts.ActAdd && known:
		return client.RemoveKey(ctx, key, list)
	case step.Act == hosts.ActRemove && !known:
		return tellAgain(ctx, client, step)
	}
	return nil
}

// tellAgain registers a key that was withdrawn, on the terms that it had.
func tellAgain(ctx context.Context, client *hostapi.Client, step workstation.HostStep) error {
	key, _, err := sshkey.ParseLine([]byte(step.Data["line"]))
	if err != nil {
		return err
	}
	request := hostapi.KeyRequest{Key: key, Title: step.Data["title"], Access: hostapi.Access(step.Data["access"]),
		List: hostapi.KeyListOf(step.Data)}
	request.Until, _ = time.Parse(time.RFC3339, step.Data["until"]) // none is no end
	if hostapi.CanTell(client.Description, request) != nil {
		request.Until, request.Access = time.Time{}, ""
	}
	_, err = client.AddKey(ctx, request)
	return err
}
