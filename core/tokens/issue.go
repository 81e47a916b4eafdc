package tokens

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// A LeftError says that a host has issued a token which is neither kept nor revoked: a person has to end it there.
type LeftError struct {
	Host, Label, ID string // as the host names it; the id may be empty
	Err             error  // why it was not kept
}

func (e *LeftError) Error() string {
	return fmt.Sprintf("%v. %s has issued the token %s all the same, and it could not be revoked", e.Err, e.Host,
		untrusted.Quote(untrusted.Clean(strings.TrimSpace(e.Label+" "+e.ID))))
}

// Unwrap returns why the token was not kept.
func (e *LeftError) Unwrap() error { return e.Err }

// Issue lets the host issue a token by its API, and keeps it. Where it cannot be kept, the host is told to forget it;
// the error is a *[LeftError] where that fails too.
func Issue(ctx context.Context, p site.Site, batch *workstation.Batch, client *hostapi.Client,
	r hostapi.TokenRequest) (chest.Entry, *Proven, error) {
	d := client.Description
	if err := Check(p, d, "issue-token", r); err != nil {
		return chest.Entry{}, nil, err
	}
	var issued *hostapi.IssuedToken
	step := workstation.HostStep{Host: d.Name, Act: hosts.ActIssue,
		Data: map[string]string{"label": r.Label, "purposes": strings.Join(r.Purposes, " ")}}
	err := batch.Act(ctx, fmt.Sprintf("Let %s issue a token for %s.", d.Name, strings.Join(r.Purposes, " and ")), step,
		func() (data map[string]string, err error) {
			if issued, r.Label, err = issueLabelled(ctx, client, r); err != nil {
				return nil, err
			}
			return map[string]string{"id": issued.ID, "label": r.Label}, nil
		})
	if err != nil || batch.Dry {
		return chest.Entry{}, nil, err
	}
	n := NewToken{Host: d, Secret: chest.Secret{Token: issued.Token}, Purposes: r.Purposes, Scopes: issued.Scopes,
		Label: r.Label, ID: issued.ID, Until: issued.Until, Account: client.Account, Issued: true}
	if n.Until.IsZero() && hostapi.TakesEnd(d, "issue-token") {
		n.Until = r.Until
	}
	e, proven, err := Keep(ctx, p, batch, n)
	if err == nil {
		return e, proven, nil
	}
	if kept, _ := Chest(p).Entry(e.Name); e.Name != "" && kept.Name == e.Name { // only what follows failed
		return e, proven, err
	}
	forget := context.WithoutCancel(ctx) // nobody would ever see it again
	own := p.Client(d, d.Bind(issued.Token))
	own.Account, own.Password, own.Second = client.Account, client.Password, client.Second
	if revokeErr := own.RevokeToken(forget, issued.ID); revokeErr != nil {
		err = &LeftError{Host: d.Name, Label: r.Label, ID: issued.ID, Err: err}
	}
	return e, proven, err
}

// UsualEnd is [hostapi.UsualEnd], or the latest end that the policy of this machine allows where that is earlier.
func UsualEnd(p site.Site, d *describe.Description, operation string) (time.Time, error) {
	until := hostapi.UsualEnd(d, operation, p.Station.Now())
	if until.IsZero() {
		return until, nil
	}
	rules, err := policy.Read(p.Station)
	return rules.Within(until), err
}

// Check tells why a token cannot be asked for: see [hostapi.CheckToken] and [policy.ErrForbidden]. Where no end is
// asked for, the host settles it, and [Keep] judges.
func Check(p site.Site, d *describe.Description, operation string, r hostapi.TokenRequest) error {
	if err := hostapi.CheckToken(d, operation, r, p.Station.Now()); err != nil {
		return err
	}
	kind, err := Chest(p).Kind()
	if err == nil {
		err = Chest(p).Allows(kind) // what a host has issued must find its place
	}
	if err != nil {
		return err
	}
	rules, err := policy.Read(p.Station)
	if err != nil || r.Until.IsZero() {
		return err
	}
	return rules.Token(r.Until)
}

// mostLabels bounds how often a host is asked with another label.
const mostLabels = 20

// issueLabelled issues a token under a label that no other token has: where the host lists tokens, by looking, else by
// being refused. It returns the label.
func issueLabelled(ctx context.Context, client *hostapi.Client,
	r hostapi.TokenRequest) (*hostapi.IssuedToken, string, error) {
	base := r.Label
	taken := labelsAt(ctx, client)
	for n := 1; ; n++ {
		r.Label = numbered(client.Description, base, n)
		if slices.Contains(taken, r.Label) && n < mostLabels {
			continue
		}
		issued, err := client.IssueToken(ctx, r)
		if err == nil || n == mostLabels || !isLabelTaken(err) {
			return issued, r.Label, err
		}
	}
}

// labelsAt lists the labels that the host's tokens have, as far as it says.
func labelsAt(ctx context.Context, client *hostapi.Client) []string {
	if !client.Description.Can("list-tokens") {
		return nil
	}
	list, err := client.Tokens(ctx)
	if err != nil { // whoever may issue a token may not be allowed to list them
		return nil
	}
	var labels []string
	for _, token := range list {
		labels = append(labels, token.Label)
	}
	return labels
}

// isLabelTaken reports whether a host refuses a token because of its label: it says so, or that there is a conflict.
func isLabelTaken(err error) bool {
	var refusal *hostapi.Refusal
	if !errors.As(err, &refusal) {
		return errors.Is(err, hostapi.ErrAlready)
	}
	words := strings.ToLower(refusal.Message)
	about := strings.Contains(words, "name") || strings.Contains(words, "label") || strings.Contains(words, "title")
	used := strings.Contains(words, "already") || strings.Contains(words, "taken") ||
		strings.Contains(words, "exist") ||
		strings.Contains(words, "in use") || strings.Contains(words, "unique")
	return refusal.Status == http.StatusConflict || refusal.Refused() && about && used
}

// numbered is a label with a number behind it, from the second on, no longer than the host takes.
func numbered(d *describe.Description, label string, n int) string {
	end := ""
	if n > 1 {
		end = fmt.Sprintf(" %d", n)
	}
	if most := d.Tokens.Label; most > 0 {
		for utf8.RuneCountInString(label)+len(end) > most && label != "" {
			_, size := utf8.DecodeLastRuneInString(label)
			label = strings.TrimSpace(label[:len(label)-size])
		}
	}
	return label + end
}

// UsualLabel says which computer a token is for, what it is for, and when it was made.
func UsualLabel(p site.Site, d *describe.Description, purposes []string) string {
	return numbered(d, fmt.Sprintf("unicrux on %s, %s, %s", p.Station.Computer, strings.Join(purposes, " and "),
		p.Station.Now().Format(time.DateOnly)), 1)
}
