// Package policy reads what the administrator of a machine asks of everybody's keys and tokens there, and says of one
// that is about to be made whether it may be. What was made before is not its matter.
package policy

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

// Errors. All but Read return the first alone, wrapped with what the rule asks for, its name and its file.
var (
	// ErrForbidden is returned for what a rule of the level must forbids.
	ErrForbidden = fault.New("policy-forbids", fault.Refused, "the policy of this machine forbids")
	// ErrUnreadable is returned by [Read], and so wherever something is about to be made, where the policy is there
	// and cannot be understood, or where others than the administrator can write it.
	ErrUnreadable = fault.New("policy-unreadable", fault.Failed, "the policy of this machine cannot be used")
)

// A Level says what becomes of what a rule does not like.
type Level string

// The levels. Only Must refuses; the others are for reports.
const (
	Off    Level = "off"
	Tell   Level = "tell"
	Should Level = "should"
	Must   Level = "must"
)

// The rules that say what may be made, by their codes.
const (
	KeyNoPassphrase = "key-no-passphrase" // a private key that is not locked
	KeyWeak         = "key-weak"          // of a type that is not among kinds, or RSA of fewer bits than rsa
	TokenLongest    = "token-longest"     // a token that is valid for more than days
	TokenNeverEnds  = "token-never-ends"  // a token of which no end is known
	ChestPlace      = "chest-place"       // secrets stored elsewhere than in places
)

// A Rule is what is asked for in one respect.
type Rule struct {
	Level  Level
	RSA    int      // least bits of an RSA key, of KeyWeak; 0 for any
	Kinds  []string // of keys, of KeyWeak; none for any
	Days   int      // of TokenLongest
	Places []string // of ChestPlace

	Scopes      []string // that a token may have, of TokenTooWide
	Authorities []string // fingerprints of those who may sign, of CertificateAuthority
}

// An Exception takes a person, a thing, or a thing of a person out of a rule, until a day.
type Exception struct {
	Rule   string         `toml:"rule"`
	Person string         `toml:"person"` // by login name; empty for everybody
	Thing  string         `toml:"thing"`  // a key's fingerprint, a token's name, or a path; empty for all
	Until  toml.LocalDate `toml:"until"`  // the last day on which it holds
	Why    string         `toml:"why"`
}

// A Policy is all rules. The empty one asks for nothing.
type Policy struct {
	File    string // where it is; empty where there is none
	Name    string
	Version string
	Hash    string // SHA-256 of the file, in hexadecimal
	Rules   map[string]Rule
	Except  []Exception

	person string
	now    time.Time
}

// File is where the policy of a machine is, or would be.
func File(station *workstation.Station) string { return filepath.Join(station.Machine, "policy.toml") }

// Read reads the policy of this machine; the empty one where there is none. See [ErrUnreadable].
func Read(station *workstation.Station) (Policy, error) {
	return read(station, File(station))
}

// ReadFile reads a policy that somebody names. The error wraps [ErrUnreadable], or tells that there is no such file.
func ReadFile(station *workstation.Station, file string) (Policy, error) {
	if _, err := os.Stat(file); err != nil {
		return Policy{}, err
	}
	text, err := regular.Read(file, regular.Settings)
	if err != nil {
		return Policy{}, fmt.Errorf("%s: %w: %w", file, ErrUnreadable, err)
	}
	return parsed(station, file, text)
}

func read(station *workstation.Station, file string) (Policy, error) {
	text, err := regular.Read(file, regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return Policy{}, nil
	}
	if err == nil && !station.Trusted(file) {
		err = errors.New("others than the administrator can write it")
	}
	if err != nil {
		return Policy{}, fmt.Errorf("%s: %w: %w", file, ErrUnreadable, err)
	}
	return parsed(station, file, text)
}

func parsed(station *workstation.Station, file string, text []byte) (Policy, error) {
	p, err := Parse(text)
	var wrong *strict.Error
	if errors.As(err, &wrong) {
		wrong.File = file
	}
	if err != nil {
		return Policy{}, fmt.Errorf("%w: %w", ErrUnreadable, err)
	}
	p.File, p.Hash, p.person, p.now = file, hashOf(text), station.User, station.Now()
	return p, nil
}

// Key says whether a key of a type may be made; bits count for RSA alone.
func (p Policy) Key(kind string, bits int) error {
	rule := p.must(KeyWeak)
	switch {
	case len(rule.Kinds) > 0 && !slices.Contains(rule.Kinds, kind):
		return p.forbid(KeyWeak, "a key of the type "+kind+"; it allows "+strings.Join(rule.Kinds, ", "))
	case kind == "rsa" && bits < rule.RSA:
		return p.forbid(KeyWeak, fmt.Sprintf("an RSA key of %d bits; it allows %d and more", bits, rule.RSA))
	}
	return nil
}

// Unlocked says whether a key without a passphrase may be made, or a passphrase taken away.
func (p Policy) Unlocked() error {
	if p.must(KeyNoPassphrase).Level != Must {
		return nil
	}
	return p.forbid(KeyNoPassphrase, "a key without a passphrase")
}

// Token says whether a token may be stored that ends then; the zero time is for an end that nobody knows.
func (p Policy) Token(until time.Time) error {
	longest := p.Longest()
	switch {
	case until.IsZero() && p.must(TokenNeverEnds).Level == Must:
		return p.forbid(TokenNeverEnds, "a token of which no end is known")
	case !until.IsZero() && !longest.IsZero() && until.After(longest.Add(time.Minute)):
		return p.forbid(TokenLongest, fmt.Sprintf("a token that is valid until %s; it allows %d days, so until %s",
			until.Format(time.DateOnly), p.must(TokenLongest).Days, longest.Format(time.DateOnly)))
	}
	return nil
}

// Longest is the last instant at which a token that is made now may end; the zero time for any.
func (p Policy) Longest() time.Time {
	if days := p.must(TokenLongest).Days; days > 0 {
		return p.now.AddDate(0, 0, days)
	}
	return time.Time{}
}

// Within is an end that the policy allows: the one that is given, or the longest.
func (p Policy) Within(until time.Time) time.Time {
	if longest := p.Longest(); !longest.IsZero() && (until.IsZero() || until.After(longest)) {
		return longest
	}
	return until
}

// Place says whether secrets may be stored in a kind of place: sealed, desktop or memory.
func (p Policy) Place(kind string) error {
	if places := p.Places(); len(places) > 0 && !slices.Contains(places, kind) {
		return p.forbid(ChestPlace, "secrets in the place "+kind+"; it allows "+strings.Join(places, ", "))
	}
	return nil
}

// Places are those in which secrets may be stored, the preferred one first; none for any.
func (p Policy) Places() []string { return p.must(ChestPlace).Places }

// must is a rule that forbids something here and now, for this person; an empty one where none does.
func (p Policy) must(code string) Rule {
	rule := p.Rules[code]
	excepted := func(e Exception) bool { return e.Rule == code && p.holds(e) }
	if rule.Level != Must || slices.ContainsFunc(p.Except, excepted) {
		return Rule{}
	}
	return rule
}

// holds tells whether an exception is for whatever this person makes, and not over.
func (p Policy) holds(e Exception) bool {
	return e.Thing == "" && e.Person == p.person && !e.Over(p.now)
}

// Over tells whether an exception has ended.
func (e Exception) Over(now time.Time) bool {
	return !now.Before(e.Until.AsTime(now.Location()).AddDate(0, 0, 1))
}

// Excepts finds the exception that takes a thing of a person out of a rule now; nil for none.
func (p Policy) Excepts(rule, person, thing string, now time.Time) *Exception {
	for i, e := range p.Except {
		if e.Rule == rule && (e.Person == "" || e.Person == person) && (e.Thing == "" || e.Thing == thing) &&
			!e.Over(now) {
			return &p.Except[i]
		}
	}
	return nil
}

func hashOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

func (p Policy) forbid(code, what string) error {
	return fmt.Errorf("%w %s (rule %s, %s)", ErrForbidden, what, code, p.File)
}
