package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A pass is a token that the host issued.
type pass struct {
	id, account, label, secret string
	scopes                     []string
	made, until, used          time.Time // until is zero for no end
	refresh                    string    // by which another is given once it ended (RFC 6749, section 6)
}

func (p *pass) ended() bool { return !p.until.IsZero() && time.Now().After(p.until) }

func (p *pass) may(scope string) bool { return slices.Contains(p.scopes, scope) }

// newSecret makes a text that nobody guesses.
func newSecret(begin string) string {
	var random [20]byte
	_, _ = rand.Read(random[:]) // it never fails (crypto/rand)
	return begin + strings.ToLower(base32.StdEncoding.EncodeToString(random[:]))
}

// Issue issues a token, and returns it.
func (h *Host) Issue(account, label string, scopes []string, until time.Time) string {
	return h.issue(account, label, scopes, until).secret
}

func (h *Host) issue(account, label string, scopes []string, until time.Time) *pass {
	h.state.Lock()
	defer h.state.Unlock()
	h.state.last++
	p := &pass{id: strconv.Itoa(h.state.last), account: account, label: label, secret: newSecret("tide-"),
		scopes: slices.Clone(scopes),
		made:   time.Now().UTC().Truncate(time.Second), until: until.UTC().Truncate(time.Second)}
	if until.IsZero() {
		p.until = time.Time{}
	}
	h.state.passes = append(h.state.passes, p)
	return p
}

// firstToken is the one that an account begins with.
func (h *Host) firstToken(account string) string {
	h.state.Lock()
	defer h.state.Unlock()
	for _, p := range h.state.passes {
		if p.account == account {
			return p.secret
		}
	}
	return ""
}

// passOf finds the pass of a secret, as a fault lets it be seen.
func (h *Host) passOf(secret string) *pass {
	if fault := h.wrong("https", func(f Fault) bool { return f.pass != nil }); fault.pass != nil {
		return fault.pass(h.knownPass(secret))
	}
	return h.knownPass(secret)
}

func (h *Host) knownPass(secret string) *pass {
	h.state.Lock()
	defer h.state.Unlock()
	for _, p := range h.state.passes {
		if subtle.ConstantTimeCompare([]byte(secret), []byte(p.secret)) == 1 {
			p.used = time.Now().UTC()
			return p
		}
	}
	return nil
}

// passesOf lists an account's.
func (h *Host) passesOf(account string) []*pass {
	h.state.Lock()
	defer h.state.Unlock()
	var list []*pass
	for _, p := range h.state.passes {
		if p.account == account {
			list = append(list, p)
		}
	}
	return list
}

// revoke makes the host forget a pass; false where there is none.
func (h *Host) revoke(account, id string) bool {
	h.state.Lock()
	defer h.state.Unlock()
	before := len(h.state.passes)
	h.state.passes = slices.DeleteFunc(h.state.passes, func(p *pass) bool { return p.account == account && p.id == id })
	return len(h.state.passes) < before
}

// Revoke makes the host forget a token, as somebody does on its page.
func (h *Host) Revoke(secret string) bool {
	p := h.knownPass(secret)
	return p != nil && h.revoke(p.account, p.id)
}

// LastUsed tells when a token of an account was last used.
func (h *Host) LastUsed(account string) time.Time {
	var last time.Time
	for _, p := range h.passesOf(account) {
		h.state.Lock()
		if p.used.After(last) {
			last = p.used
		}
		h.state.Unlock()
	}
	return last
}

// Passes tells how many tokens an account has.
func (h *Host) Passes(account string) int { return len(h.passesOf(account)) }

func (h *Host) isBlocked(account string) bool {
	h.state.Lock()
	defer h.state.Unlock()
	return h.state.blocked[account]
}
