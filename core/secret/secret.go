// Package secret holds text that must not be shown: passphrases and tokens.
//
// A [Text] hides itself wherever values get printed: in fmt, in log/slog and in
// encoding/json. Only [Text.Reveal] gives the content, so each place that needs
// it can be found by searching for that name.
package secret

import (
	"bytes"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"log/slog"
)

// MaxBytes bounds a secret read from a file or a pipe. Tokens and passphrases are
// far shorter; the bound keeps a wrong file name from filling memory.
const MaxBytes = 64 << 10

// ErrTooLong is returned by [Read] for input of more than [MaxBytes].
var ErrTooLong = errors.New("more than 65536 bytes, which is no passphrase or token")

// Mask is what stands in place of a secret. Its length does not depend on the secret's.
const Mask = "••••"

// Names is the form (RE2) of what stands in the names of variables that hold secrets.
const Names = `TOKEN|PASSWORD|SECRET`

// A Text is a secret. The zero value is an empty one.
type Text struct{ content []byte }

// New takes over content, which the caller must not use any more.
func New(content []byte) Text { return Text{content} }

// Reveal returns the secret itself. The caller hands it to what needs it and keeps no copy.
func (t Text) Reveal() []byte { return t.content }

// Empty reports whether there is no secret at all.
func (t Text) Empty() bool { return len(t.content) == 0 }

// String returns [Mask].
func (Text) String() string { return Mask }

// Format writes [Mask] for every verb, %x and %#v included.
func (Text) Format(f fmt.State, _ rune) { _, _ = io.WriteString(f, Mask) }

// LogValue returns [Mask] for log/slog.
func (Text) LogValue() slog.Value { return slog.StringValue(Mask) }

// MarshalText returns [Mask] for encoding/json and its like.
func (Text) MarshalText() ([]byte, error) { return []byte(Mask), nil }

// Read takes one secret from r: everything up to the end of input, without the one
// line end that editors and echo leave behind.
func Read(r io.Reader) (Text, error) {
	content, err := io.ReadAll(io.LimitReader(r, MaxBytes+1))
	if err != nil {
		return Text{}, err
	}
	if len(content) > MaxBytes {
		return Text{}, ErrTooLong
	}
	content = bytes.TrimSuffix(content, []byte("\n"))
	return New(bytes.TrimSuffix(content, []byte("\r"))), nil
}

// Equal reports whether two secrets are the same, in a time that depends on their lengths alone.
func (t Text) Equal(other Text) bool {
	return subtle.ConstantTimeCompare(t.Reveal(), other.Reveal()) == 1
}
