package hostapi

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
)

// A TokenRequest says what token to issue.
type TokenRequest struct {
	Label    string
	Purposes []string  // what it is for; the description says which scopes these are
	Until    time.Time // zero for no end
}

// An IssuedToken is a token that a host has issued, as far as it tells.
type IssuedToken struct {
	ID      string      // the host's own; may be empty
	Token   secret.Text // empty but when it was just issued or renewed
	Label   string      // uncleaned
	Scopes  []string
	Account string
	Made    time.Time // each time is zero where the host does not tell
	Until   time.Time
	Used    time.Time
}

// Reasons for which [CheckToken] and [Scopes] say that a token is not to be asked for, for errors.Is.
var (
	ErrPurpose    = fault.New("api-purpose", fault.Misused, "the host's description does not say which scopes serve this")
	ErrTooLong    = fault.New("api-too-long", fault.Misused, "the host lets no token live that long")
	ErrNeedsEnd   = fault.New("api-needs-end", fault.Misused, "the host lets every token end")
	ErrNoTokenEnd = fault.New("api-no-token-end", fault.Misused, "the host's API accepts no expiry date for a token")
	ErrLabel      = fault.New("api-label", fault.Misused, "the host's labels are shorter")
	ErrForm       = errors.New("not of the form of the host's tokens")
)

// Scopes gives the host's own scopes for purposes, each once.
func Scopes(d *describe.Description, purposes []string) ([]string, error) {
	var scopes []string
	for _, purpose := range purposes {
		list, found := d.Purposes[purpose]
		if !found && len(d.Purposes) > 0 {
			return nil, fmt.Errorf("%s: %w", purpose, ErrPurpose)
		}
		for _, scope := range list {
			if !slices.Contains(scopes, scope) {
				scopes = append(scopes, scope)
			}
		}
	}
	return scopes, nil
}

// Longest is the latest end that a host gives to a token made now; zero for no limit.
func Longest(d *describe.Description, now time.Time) time.Time {
	if d.Tokens.Longest == "" {
		return time.Time{}
	}
	end, _ := expiry.End(d.Tokens.Longest, now) // [describe.Parse] has looked
	return end
}

// usualDays is how long a token lives for which nobody said how long.
const usualDays = 90

// UsualEnd is the end of a token for which nobody said one: in three months, or at the host's
// latest; zero where the host takes none.
func UsualEnd(d *describe.Description, operation string, now time.Time) time.Time {
	if !TakesEnd(d, operation) {
		return time.Time{}
	}
	end := now.AddDate(0, 0, usualDays)
	if longest := Longest(d, now); !longest.IsZero() && longest.Before(end) {
		end = longest
	}
	return end
}

// CheckToken tells why a token cannot be asked for.
func CheckToken(d *describe.Description, operation string, r TokenRequest, now time.Time) error {
	if _, err := Scopes(d, r.Purposes); err != nil {
		return err
	}
	longest := Longest(d, now)
	switch {
	case !r.Until.IsZero() && !TakesEnd(d, operation):
		return ErrNoTokenEnd
	case !longest.IsZero() && r.Until.IsZero() && TakesEnd(d, operation):
		return fmt.Errorf("%w: after %s at the latest", ErrNeedsEnd, d.Tokens.Longest)
	case !longest.IsZero() && r.Until.After(longest.Add(time.Minute)):
		return fmt.Errorf("%w: %s is the most, so until %s", ErrTooLong, d.Tokens.Longest,
			longest.Format(time.DateOnly))
	case d.Tokens.Label > 0 && len([]rune(r.Label)) > d.Tokens.Label:
		return fmt.Errorf("%w: %d characters at most", ErrLabel, d.Tokens.Label)
	}
	return nil
}

// FitsForm tells whether a text may be a token of the host's, as far as its description says.
func FitsForm(d *describe.Description, text string) bool {
	return d.Tokens.Form == "" || regexp.MustCompile(`^(?:`+d.Tokens.Form+`)$`).MatchString(text)
}

// IssueToken lets the host issue a token.
func (c *Client) IssueToken(ctx context.Context, r TokenRequest) (*IssuedToken, error) {
	return c.newToken(ctx, "issue-token", "", r)
}

// RenewToken lets the host give another token for an earlier one, which it knows by its id or
// by its being used to ask.
func (c *Client) RenewToken(ctx context.Context, id string, r TokenRequest) (*IssuedToken, error) {
	return c.newToken(ctx, "renew-token", id, r)
}

func (c *Client) newToken(ctx context.Context, name, id string, r TokenRequest) (*IssuedToken, error) {
	scopes, err := Scopes(c.Description, r.Purposes)
	if err != nil {
		return nil, err
	}
	with := texts("id", id, "label", r.Label, "scopes_spaces", strings.Join(scopes, " "), "scopes_commas",
		strings.Join(scopes, ","))
	with["scopes"] = value{list: scopes}
	with.ended(c, c.Description.Operations[name], r.Until, time.Now())
	found, err := c.do(ctx, name, with)
	if err != nil {
		return nil, err
	}
	text, err := found.need(name, "token")
	if err != nil {
		return nil, err
	}
	issued := found.token()
	issued.Token = secret.New([]byte(text))
	return issued, nil
}

// Tokens lists the account's tokens, without their secrets.
func (c *Client) Tokens(ctx context.Context) ([]IssuedToken, error) {
	var list []IssuedToken
	err := c.list(ctx, "list-tokens", nil, func(r result) bool {
		list = append(list, *r.token())
		return true
	})
	return list, err
}

// ShowToken tells what the host knows about the client's own token, by "show-token" or by
// what "who" tells besides.
func (c *Client) ShowToken(ctx context.Context) (*IssuedToken, error) {
	name := "show-token"
	if !c.Description.Can(name) {
		name = "who"
	}
	found, err := c.do(ctx, name, nil)
	if err != nil {
		return nil, err
	}
	issued := found.token()
	if name == "who" {
		issued.ID = "" // the account's, not the token's
	}
	return issued, nil
}

// RevokeToken makes the host forget a token: by its id, or the client's own. What is not there
// any more is no error.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	own, err := c.Token.To(c.Description.APIPlace())
	if err != nil {
		return err
	}
	_, err = c.do(ctx, "revoke-token", texts("id", id, "token", string(own.Reveal())))
	if errors.Is(err, ErrGone) {
		return nil
	}
	return err
}

func (r result) token() *IssuedToken {
	return &IssuedToken{ID: r.text("id"), Label: r.text("label"), Scopes: r.texts("scopes"), Account: r.text("account"),
		Made: asTime(r.text("made")), Until: asTime(r.text("until")), Used: asTime(r.text("used"))}
}
