package hostapi

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/sshkey"
)

// A RegisteredKey is a public key that a host knows for an account, or for one repository.
type RegisteredKey struct {
	ID     string // the host's own, needed to remove it
	Title  string // uncleaned
	Key    ssh.PublicKey
	Until  time.Time // when it ends there; zero for never, or where the host does not tell
	Used   time.Time // when it was last used; zero for never, or where the host does not tell
	Access Access    // empty where the host does not tell
}

// An Access is what a registered key, or an account in a repository, may do.
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
	List   KeyList
}

// A KeyList is one of the lists of keys that a host keeps: those that open an account, which is the zero value,
// those that open one repository alone, or those with which an account signs commits.
type KeyList struct {
	Repo    string // for this repository alone
	Signing bool   // that sign, and open nothing
}

// KeyListOf is the list that was noted in the data of a step ([KeyList.Note]).
func KeyListOf(data map[string]string) KeyList {
	return KeyList{Repo: data["repo"], Signing: data["signing"] != ""}
}

// Note puts into the data of a step which list it is about.
func (l KeyList) Note(data map[string]string) {
	if l.Repo != "" {
		data["repo"] = l.Repo
	}
	if l.Signing {
		data["signing"] = "yes"
	}
}

// Operation names the operation of a description by which something is done to the list: list, add or remove.
func (l KeyList) Operation(verb string) string {
	noun := "key"
	switch {
	case l.Signing:
		noun = "signing-key"
	case l.Repo != "":
		noun = "repo-key"
	}
	if verb == "list" {
		noun += "s"
	}
	return verb + "-" + noun
}

// Reasons for which [CanTell] says that a host's API has no place for all of a [KeyRequest], for errors.Is.
var (
	ErrNoUntil  = fault.New("api-no-until", fault.Refused, "the host's API accepts no expiry date for a key")
	ErrNoAccess = fault.New("api-no-access", fault.Refused, "the host's API accepts no read-only keys")
	ErrNoRepo   = fault.New("api-no-repo", fault.Refused, "the host's API accepts no keys for one repository")
	ErrNoSigns  = fault.New("api-no-signs", fault.Refused, "the host's API accepts no signing keys")
)

// Who asks the interface whose token this is.
func (c *Client) Who(ctx context.Context) (string, error) {
	r, err := c.do(ctx, "who", nil)
	if err != nil {
		return "", err
	}
	c.who, err = r.need("who", "account")
	return c.who, err
}

// ofRepo adds the names of a repository.
func (with values) ofRepo(repo string) values {
	if repo != "" {
		with["repo"] = value{text: repo}
		with["name"] = value{text: path.Base(repo)}
		if owner := path.Dir(repo); owner != "." {
			with["owner"] = value{text: owner}
		}
	}
	return with
}

// Keys lists the registered keys of a list. One that cannot be
// read is passed over: hosts keep old kinds that we do not know.
func (c *Client) Keys(ctx context.Context, l KeyList) ([]RegisteredKey, error) {
	var keys []RegisteredKey
	err := c.list(ctx, l.Operation("list"), values{}.ofRepo(l.Repo), func(r result) bool {
		key, _, err := sshkey.ParseLine([]byte(r.text("line")))
		if err == nil {
			keys = append(keys, RegisteredKey{ID: r.text("id"), Title: r.text("title"), Key: key,
				Until: asTime(r.text("until")), Used: asTime(r.text("used")), Access: asAccess(r.text("access"))})
		}
		return true
	})
	return keys, err
}

// CanTell tells why a host cannot be told all of a request, or nothing.
func CanTell(d *describe.Description, r KeyRequest) error {
	name := r.List.Operation("add")
	add, found := d.Operations[name]
	switch {
	case r.List.Repo != "" && !found:
		return ErrNoRepo
	case r.List.Signing && !found:
		return ErrNoSigns
	case !r.Until.IsZero() && !TakesEnd(d, name):
		return ErrNoUntil
	case r.Access == Read && !add.Takes("access"):
		return ErrNoAccess
	}
	return nil
}

// TakesEnd tells whether a host can be told an end by an operation.
func TakesEnd(d *describe.Description, operation string) bool {
	o := d.Operations[operation]
	return o.Takes("until") || o.Takes("days") || o.Takes("seconds")
}

// AddKey registers a public key and returns the host's id for it, which is empty where the
// host does not tell. See [CanTell].
func (c *Client) AddKey(ctx context.Context, r KeyRequest) (string, error) {
	name := r.List.Operation("add")
	line := sshkey.Line(r.Key, "")
	kind, blob, _ := strings.Cut(line, " ")
	with := texts("title", r.Title, "line", line, "kind", kind, "blob", blob, "fingerprint", sshkey.Fingerprint(r.Key),
		"access", string(r.Access)).ofRepo(r.List.Repo)
	with.ended(c, c.Description.Operations[name], r.Until, time.Now())
	found, err := c.replace(ctx, name, with, nil)
	if err != nil || len(c.Description.Operations[name].Fields["id"]) == 0 {
		return "", err
	}
	if id := found.text("id"); id != "" || !c.Description.Can(r.List.Operation("list")) {
		_, err := found.need(name, "id")
		return id, err
	}
	return c.idOf(ctx, r) // the host answers without it
}

// idOf finds the id of a key that was registered a moment ago.
func (c *Client) idOf(ctx context.Context, r KeyRequest) (string, error) {
	keys, err := c.Keys(ctx, r.List)
	if err != nil {
		return "", err
	}
	for _, key := range keys {
		if bytes.Equal(key.Key.Marshal(), r.Key.Marshal()) {
			return key.ID, nil
		}
	}
	return "", fmt.Errorf("%w: the key is not listed afterwards", ErrAnswer)
}

// RemoveKey withdraws a registered key. What is not there any more is no error.
func (c *Client) RemoveKey(ctx context.Context, key RegisteredKey, l KeyList) error {
	with := texts("id", key.ID, "title", key.Title).ofRepo(l.Repo)
	if key.Key != nil {
		with["fingerprint"] = value{text: sshkey.Fingerprint(key.Key)}
	}
	_, err := c.replace(ctx, l.Operation("remove"), with, func(r result) bool {
		listed, _, err := sshkey.ParseLine([]byte(r.text("line")))
		if key.Key == nil || err != nil {
			return key.ID != "" && r.text("id") == key.ID
		}
		return bytes.Equal(listed.Marshal(), key.Key.Marshal())
	})
	if errors.Is(err, ErrGone) {
		return nil
	}
	return err
}

func asAccess(text string) Access {
	if access := Access(text); access == Read || access == Write {
		return access
	}
	return ""
}

// HostKeys asks for the keys that the host publishes as its own.
func (c *Client) HostKeys(ctx context.Context) (keys []ssh.PublicKey, prints []string, err error) {
	unread := false
	err = c.list(ctx, "host-keys", nil, func(r result) bool {
		if print := r.text("fingerprint"); print != "" {
			prints = append(prints, "SHA256:"+strings.TrimRight(strings.TrimPrefix(print, "SHA256:"), "="))
			return true
		}
		key, _, err := sshkey.ParseLine([]byte(r.text("line")))
		unread = unread || err != nil
		if err == nil {
			keys = append(keys, key)
		}
		return true
	})
	if err == nil && unread && len(keys) == 0 {
		err = fmt.Errorf("%w: a published host key cannot be read", ErrAnswer)
	}
	return keys, prints, err
}
