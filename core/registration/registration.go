// Package registration registers public keys with hosts and withdraws them, by the host's API or by what a person
// does on its web page, and proves each by signing in.
package registration

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// A Registration says what to tell a host.
type Registration struct {
	Pair   *sshkey.Pair
	Host   *describe.Description
	Title  string
	Until  time.Time      // when the host shall stop taking it; zero for never
	Access hostapi.Access // what it may do there; empty for what the host gives by itself
	List   hostapi.KeyList
	Token  origin.Bound
	Ask    sshway.Asker // for the passphrase, when signing in to prove it
}

// Reasons for which [Register] and [ByHand] do not register a key, for errors.Is.
var (
	ErrObsolete     = fault.New("key-obsolete", fault.Refused, "hosts and clients no longer accept keys of this type and size")
	ErrHostKind     = fault.New("key-host-kind", fault.Refused, "the host does not accept keys of this type")
	ErrTitle        = fault.New("key-title", fault.Misused, "not a title that the host accepts")
	ErrOtherTerms   = fault.New("key-other-terms", fault.Refused, "the host knows this key already, on other terms")
	ErrOtherAccount = fault.New("key-other-account", fault.Refused, "the host knows this key already, for another account")
)

// An OtherAccountError names the account that a key opens already.
type OtherAccountError struct{ Account string } // uncleaned; empty when the host greets nobody

func (e *OtherAccountError) Error() string {
	if e.Account == "" {
		return ErrOtherAccount.Error()
	}
	return fmt.Sprintf("%s: it opens %s", ErrOtherAccount, e.Account)
}

// Unwrap returns [ErrOtherAccount].
func (e *OtherAccountError) Unwrap() error { return ErrOtherAccount }

// Check tells why a registration cannot be made, before anybody is asked for a token.
func (r Registration) Check() error {
	kind := sshkey.Kind(r.Pair.Public)
	limit := r.Host.Keys.Title
	switch {
	case !r.Host.HasSSH() && !r.List.Signing:
		return fmt.Errorf("%s: %w", r.Host.Name, hosts.ErrNoSSH)
	case sshkey.IsObsolete(r.Pair.Public):
		return fmt.Errorf("%s is %s %d: %w", r.Pair.Name(), kind, sshkey.Bits(r.Pair.Public), ErrObsolete)
	case len(r.Host.Keys.Kinds) > 0 && !slices.Contains(r.Host.Keys.Kinds, kind):
		return fmt.Errorf("%s is %s, and %s accepts %s: %w", r.Pair.Name(), kind, r.Host.Name,
			strings.Join(r.Host.Keys.Kinds, ", "), ErrHostKind)
	case untrusted.Clean(r.Title) != r.Title || r.Title == "":
		return fmt.Errorf("%w: one line of plain text is needed", ErrTitle)
	case limit > 0 && utf8.RuneCountInString(r.Title) > limit:
		return fmt.Errorf("%w: it has at most %d characters, and this one has %d", ErrTitle, limit,
			utf8.RuneCountInString(r.Title))
	}
	return hostapi.CanTell(r.Host, r.request())
}

func (r Registration) request() hostapi.KeyRequest {
	return hostapi.KeyRequest{Key: r.Pair.Public, Title: r.Title, Until: r.Until, Access: r.Access, List: r.List}
}

// Registered says what the host knows now, and how that was proved.
type Registered struct {
	ID      string // the host's own
	Already bool   // it knew the key before
	Title   string // as the host keeps it
	Until   time.Time
	Access  hostapi.Access
	Owner   string // whose token told the host
	Account string // whom the host greeted; empty when it tells nobody
	Proof   Proof
}

// A Proof says how far a registration was proved.
type Proof string

// The proofs: signed in; the host accepts the key, which could not be unlocked to sign in.
const (
	SignedIn Proof = "signed in"
	KeyTaken Proof = "the host accepts the key"
	// MoreWanted is of a host that takes the key and wants a further proof, which git cannot give.
	MoreWanted Proof = "the host accepts the key, and requires a second factor"
	// Listed and Told are of keys for signing, with which nobody signs in.
	Listed Proof = "the host lists the key"
	Told   Proof = "the key is registered"
)

// ErrUnproved is returned when the key is registered and the host does not accept it all the same.
var ErrUnproved = fault.New("key-unproved", fault.Refused, "the key is registered, but the host does not accept it yet")

// Register tells the host about a key through its interface, makes settings use the key
// there, and proves it by signing in with that key alone. Told twice, it says so.
func Register(ctx context.Context, p site.Site, batch *workstation.Batch, r Registration) (*Registered, error) {
	client := p.Client(r.Host, r.Token)
	done := &Registered{Title: r.Title, Until: r.Until, Access: r.Access}
	err := r.Check()
	if err == nil {
		err = keys.Allowed(p.Station, r.Pair)
	}
	if err != nil {
		return nil, err
	}
	if r.Host.Can("who") {
		if done.Owner, err = client.Who(ctx); err != nil {
			return nil, err
		}
		if r.Host.ForAccount != "" && r.Host.ForAccount != done.Owner {
			return nil, fmt.Errorf("%w: it is %s's", tokens.ErrOwner, done.Owner)
		}
	}
	if err := tell(ctx, p, batch, client, r, done); err != nil {
		return nil, err
	}
	if r.List.Signing { // it opens nothing
		return done, proveListed(ctx, p, batch, client, r, done)
	}
	if !batch.Dry {
		if err := Prove(ctx, p, r, done); err != nil {
			return done, err
		}
	}
	if r.List.Repo != "" { // it opens nothing else, so settings for the host do not lead to it
		return done, nil
	}
	if err := keys.SetUse(ctx, p, batch, r.Host.HostName(), r.Pair); err != nil || batch.Dry || !done.Already {
		return done, err
	}
	return done, NoteSeen(ctx, p, batch, r)
}

// proveListed looks whether the host lists a key for signing, with which nobody can sign in to prove it.
func proveListed(ctx context.Context, p site.Site, batch *workstation.Batch, client *hostapi.Client, r Registration,
	done *Registered) error {
	if batch.Dry || !r.Host.Can(r.List.Operation("list")) {
		done.Proof = Told
		return nil
	}
	keys, err := client.Keys(ctx, r.List)
	if err == nil && FindRegistered(keys, r.Pair.Public) == nil {
		err = ErrUnproved
	}
	done.Proof = Listed
	return err
}

// NoteSeen records that the host takes a key which it was told about by other means, so
// that it is known here.
func NoteSeen(ctx context.Context, p site.Site, batch *workstation.Batch, r Registration) error {
	fingerprint := sshkey.Fingerprint(r.Pair.Public)
	known, err := hosts.KnownKeys(p.Station)
	if err != nil || slices.Contains(known[fingerprint], r.Host.Name) {
		return err
	}
	step := workstation.HostStep{Host: r.Host.Name, Act: hosts.ActSee,
		Data: map[string]string{"fingerprint": fingerprint}}
	return batch.Act(ctx, fmt.Sprintf("See that %s accepts %s.", r.Host.Name, r.Pair.Name()), step,
		func() (map[string]string, error) { return nil, nil })
}

// tell registers the key unless the host knows it for this account already.
func tell(ctx context.Context, p site.Site, batch *workstation.Batch, client *hostapi.Client, r Registration,
	done *Registered) error {
	if r.Host.Can(r.List.Operation("list")) {
		keys, err := client.Keys(ctx, r.List)
		if err != nil {
			return err
		}
		for _, known := range keys {
			if bytes.Equal(known.Key.Marshal(), r.Pair.Public.Marshal()) {
				done.ID, done.Title, done.Already, done.Until, done.Access = known.ID, known.Title, true,
					known.Until, known.Access
				return r.sameTerms(known)
			}
		}
	}
	step := workstation.HostStep{Host: r.Host.Name, Act: hosts.ActAdd,
		Data: map[string]string{"fingerprint": sshkey.Fingerprint(r.Pair.Public), "title": r.Title}}
	r.List.Note(step.Data)
	err := batch.Act(ctx, fmt.Sprintf("Register %s with %s as %q.", r.Pair.Name(), r.Host.Name, r.Title), step,
		func() (map[string]string, error) {
			id, err := client.AddKey(ctx, r.request())
			done.ID = id
			return map[string]string{"id": id}, err
		})
	var refusal *hostapi.Refusal
	if errors.As(err, &refusal) && refusal.Means == "" && !r.List.Signing && opensAnother(ctx, p, r, done) {
		return &OtherAccountError{Account: done.Account}
	}
	return err
}

// opensAnother looks whether a key that the host declined to take is one that it knows.
func opensAnother(ctx context.Context, p site.Site, r Registration, done *Registered) bool {
	return Prove(ctx, p, r, done) == nil && (done.Account == "" || done.Account != done.Owner)
}

// sameTerms compares what the host knows with what it is to be told.
func (r Registration) sameTerms(known hostapi.RegisteredKey) error {
	switch {
	case r.Access != "" && known.Access != "" && r.Access != known.Access:
		return fmt.Errorf("%w: it may %s", ErrOtherTerms, known.Access)
	case !r.Until.IsZero() && known.Until.IsZero():
		return fmt.Errorf("%w: it has no end there", ErrOtherTerms)
	case !r.Until.IsZero() && known.Until.UTC().Format(time.DateOnly) != r.Until.UTC().Format(time.DateOnly):
		return fmt.Errorf("%w: it expires on %s", ErrOtherTerms, known.Until.UTC().Format(time.DateOnly))
	}
	return nil
}

// errOnlyAsked keeps a key that the host knows from being used: knowing is enough.
var errOnlyAsked = errors.New("only asked")

// Takes asks a host whether it knows a key. Nobody signs in, and no passphrase is needed.
func Takes(ctx context.Context, p site.Site, host *describe.Description, pair *sshkey.Pair) (bool, error) {
	trip, err := Offer(ctx, p, host, func(*sshway.Way) []wire.Offer {
		return []wire.Offer{{Public: pair.Public, Open: func() (ssh.Signer, error) { return nil, errOnlyAsked }}}
	})
	switch {
	case trip != nil && len(trip.Offered) == 1 && trip.Offered[0].Known:
		return true, nil
	case errors.Is(err, wire.ErrDenied):
		return false, nil
	}
	return false, fmt.Errorf("%s: %w", host.Name, err)
}

// Offer goes to a host with certain keys. The host's own key must be stored, or be one that
// the host publishes.
func Offer(ctx context.Context, p site.Site, host *describe.Description,
	keys func(*sshway.Way) []wire.Offer) (*wire.Trip, error) {
	if !host.HasSSH() {
		return nil, fmt.Errorf("%s: %w", host.Name, hosts.ErrNoSSH)
	}
	passage, err := p.Prepare(ctx, host.SSHAddress())
	if err != nil {
		return nil, err
	}
	defer passage.Close() // nothing of the agent's is ours to lose
	var published hostapi.PublishedKeys
	var publishedErr error
	known := len(passage.Known.Keys) > 0
	if !known {
		published, publishedErr = hostapi.Published(ctx, host, p.Timeout)
	}
	plan := passage.Plan(func(key ssh.PublicKey) error {
		if _, _, ok := passage.Judge(key); ok {
			return nil
		}
		if known {
			published, publishedErr = hostapi.Published(ctx, host, p.Timeout)
		}
		if publishedErr != nil || !published.Has(sshkey.Plain(key)) {
			return errors.Join(trust.ErrOtherKey, publishedErr)
		}
		return nil
	}, p.Timeout)
	plan.HostKeys = sshway.Preferring(plan.HostKeys, published.Keys) // it may publish one type alone
	plan.Offers = keys(passage)
	plan.Greeting = host.SSH.Greeting != ""
	return wire.GoSSH(ctx, plan)
}

// Prove signs in with that key alone.
func Prove(ctx context.Context, p site.Site, r Registration, done *Registered) error {
	trip, err := Offer(ctx, p, r.Host, func(passage *sshway.Way) []wire.Offer {
		return sshway.Offers(OnlyKey(p, passage, r.Pair), r.Ask)
	})
	switch {
	case trip == nil:
		return err
	case err == nil:
		done.Proof, done.Account = SignedIn, r.Host.Account(trip.Greeting)
		return nil
	case errors.Is(err, wire.ErrMore):
		done.Proof = MoreWanted
		return nil
	case len(trip.Offered) == 1 && trip.Offered[0].Known:
		done.Proof = KeyTaken
		if errors.Is(trip.Offered[0].OpenErr, sshkey.ErrPassphrase) {
			return trip.Offered[0].OpenErr
		}
		return nil
	case errors.Is(err, wire.ErrDenied) && len(trip.Offered) == 1 && trip.Offered[0].Unfit:
		return fmt.Errorf("%w: %w", ErrUnproved, ErrType)
	case errors.Is(err, wire.ErrDenied):
		return ErrUnproved
	}
	return fmt.Errorf("%w: %w", ErrUnproved, err)
}

// OnlyKey finds the pair among the keys that ssh would offer, where the agent may hold it
// unlocked, or takes it as it is.
func OnlyKey(p site.Site, passage *sshway.Way, pair *sshkey.Pair) []sshway.Key {
	for _, key := range passage.Keys {
		if key.Public != nil && bytes.Equal(key.Public.Marshal(), pair.Public.Marshal()) {
			return []sshway.Key{key}
		}
	}
	return []sshway.Key{{Name: pair.Name(), Path: pair.Path, Public: pair.Public, Locked: pair.Locked, Pair: pair}}
}
