// Package card says what to fill in into any other program, so that it reaches a host as git does here.
package card

import (
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/tokens"
)

// A Field is one thing that another program wants to be told.
type Field struct {
	Name    string   // by which it can be copied
	Value   string   // empty for a secret
	Secret  string   // the name of the token in the chest that is the value; empty for none
	Note    string   // what people get wrong about it
	Command []string // that makes it what another program wants; empty for none
}

// FieldNames lists all names that fields have.
func FieldNames() []string {
	return []string{"protocol", "server", "port", "user", "clone-url", "url", "sign-in", "key", "passphrase", "format",
		"host-key", "password", "authority"}
}

// A Side is how a program reaches a host by one transport.
type Side struct {
	Transport string // ssh or https
	Ready     bool   // there is all that is needed
	Fields    []Field
	Missing   []string // the command that makes it ready; empty when it is
}

// A Card is everything to fill in into another program, for one host.
type Card struct {
	Host  string
	Sides []Side
}

// For tells what to fill in, for a purpose: as ssh and git are settled here.
func For(ctx context.Context, p site.Site, d *describe.Description, purpose string) (*Card, error) {
	card := &Card{Host: d.Name}
	if d.HasSSH() {
		ssh, err := sshSide(ctx, p, d)
		if err != nil {
			return nil, err
		}
		card.Sides = append(card.Sides, ssh)
	}
	https, err := httpsSide(p, d, purpose)
	if err != nil {
		return nil, err
	}
	card.Sides = append(card.Sides, https)
	return card, nil
}

// repository stands for the path of one.
const repository = "REPOSITORY"

func sshSide(ctx context.Context, p site.Site, d *describe.Description) (Side, error) {
	at := d.SSHAddress()
	at.User = d.SSH.User
	way, err := p.Prepare(ctx, at)
	if err != nil {
		return Side{}, err
	}
	defer way.Close() // nothing of the agent's is ours to lose
	c := way.Client
	side := Side{Transport: "ssh", Fields: []Field{
		{Name: "protocol", Value: "SSH"},
		{Name: "server", Value: c.HostName},
		{Name: "port", Value: strconv.Itoa(c.Port)},
		{Name: "user", Value: c.User, Note: "the same for everybody: the key identifies you"},
		{Name: "clone-url", Value: d.Clone(repository, "ssh"), Note: "with the path of a repository for " + repository},
		{Name: "sign-in", Value: "public key", Note: "programs call it key file, private key or SSH key"},
	}}
	for _, key := range way.Keys {
		if key.Path == "" {
			continue
		}
		lock := "none"
		if key.Pair != nil && key.Pair.Locked {
			lock = "the key's own"
		}
		side.Ready = true
		side.Fields = append(side.Fields,
			Field{Name: "key", Value: key.Path, Note: "the private key; never the file that ends in .pub"},
			Field{Name: "passphrase", Value: lock, Note: "of the key, not of the account"})
		if key.Pair != nil {
			side.Fields = append(side.Fields, Field{Name: "format", Value: sshkey.FormOf(key.Path),
				Note:    "for a program that cannot read it, write it in another:",
				Command: []string{"unicrux", "key", "save", key.Pair.Name(), "--format", "pkcs8", "--out", "FILE"}})
		}
		break
	}
	for _, known := range way.Known.Keys {
		side.Fields = append(side.Fields, Field{Name: "host-key", Value: sshkey.Fingerprint(known.Key),
			Note: "what the program should show at first contact: the host's, not yours"})
		break
	}
	if !side.Ready {
		side.Missing = []string{"unicrux", "ready", d.Name}
	}
	return side, nil
}

func httpsSide(p site.Site, d *describe.Description, purpose string) (Side, error) {
	server := d.HTTPS.URL
	if server == "" {
		server = "https://" + d.HTTPSAt() + "/"
	}
	side := Side{Transport: "https", Fields: []Field{{Name: "protocol", Value: "HTTPS"}, {Name: "url", Value: server}}}
	if at, err := url.Parse(server); err == nil {
		side.Fields = append(side.Fields, Field{Name: "server", Value: at.Host},
			Field{Name: "clone-url", Value: d.Clone(repository, "https"),
				Note: "with the path of a repository for " + repository})
	}
	list, err := tokens.Chest(p).At("https", d.HTTPSAt())
	if err != nil {
		return side, err
	}
	now := p.Station.Now()
	list = slices.DeleteFunc(list, func(e chest.Entry) bool {
		return (d.ForAccount != "" && e.Host != d.Name) || e.Ended(now) || !serves(e, purpose)
	})
	if len(list) == 0 {
		side.Missing = []string{"unicrux", "token", "new", d.Name, "--for", purpose}
		return side, nil
	}
	e := slices.MinFunc(list, func(a, b chest.Entry) int { return strings.Compare(a.Host, b.Host) })
	side.Ready = true
	side.Fields = append(side.Fields,
		Field{Name: "user", Value: e.User},
		Field{Name: "password", Secret: e.Name, Note: "the token, not the account's password"},
		Field{Name: "sign-in", Value: "user name and password", Note: "programs call it Basic, HTTP or token"})
	if d.HTTPS.Authority != "" {
		side.Fields = append(side.Fields, Field{Name: "authority", Value: hosts.AuthorityFile(p.Station, d),
			Note: "the file with the certificate authority (CA) that the program must trust"})
	}
	return side, nil
}

// serves tells whether a token is for a purpose, as far as it is known what it is for.
func serves(e chest.Entry, purpose string) bool {
	return len(e.Purposes) == 0 || slices.Contains(e.Purposes, purpose) ||
		(purpose == "clone" && slices.Contains(e.Purposes, "push"))
}
