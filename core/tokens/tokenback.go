package tokens

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/workstation"
)

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// ErrNoWayBack is returned for an undo that would need a token which was given up.
var ErrNoWayBack = fault.New("token-no-way-back", fault.Refused, "a token that was given up does not come back")

// TakeBack takes back that a token was kept: it leaves the chest, and the host that issued
// it for that forgets it.
func TakeBack(ctx context.Context, p site.Site, step workstation.HostStep) error {
	switch {
	case step.Act == hosts.ActIssue:
		return nil // that it is kept is taken back first, and revokes it
	case step.Act == hosts.ActRevoke, step.Data["replaced"] != "":
		return ErrNoWayBack
	}
	e, err := Chest(p).Entry(step.Data["name"])
	if errors.Is(err, chest.ErrNone) {
		return nil
	}
	if err == nil && step.Data["issued"] != "" {
		var d *describe.Description
		var s chest.Secret
		if d, err = HostOf(p, e); err != nil {
			return err
		}
		if s, err = Chest(p).Get(e); err != nil {
			return err
		}
		err = ForgetAtHost(ctx, p, d, e, s)
	}
	if err != nil {
		return err
	}
	return Chest(p).Remove(e.Name)
}

// Renew gets another token for one, proves it, and only then gives up the old one.
func Renew(ctx context.Context, p site.Site, batch *workstation.Batch, e chest.Entry,
	until time.Time) (chest.Entry, error) {
	d, err := HostOf(p, e)
	if err != nil {
		return e, err
	}
	old, err := Chest(p).Get(e)
	if err != nil {
		return e, err
	}
	if e.Signed {
		return Refresh(ctx, p, e, old)
	}
	if e.Owed != "" { // a renewal that was cut short
		return SettleOwed(ctx, p, batch, d, e, old)
	}
	request := hostapi.TokenRequest{Label: e.Label, Purposes: e.Purposes, Until: until}
	if until.IsZero() && hostapi.TakesEnd(d, "renew-token") {
		if request.Until, err = UsualEnd(p, d, "renew-token"); err != nil {
			return e, err
		}
	}
	if !d.Can("renew-token") {
		return e, fmt.Errorf("%s: %w", d.Name, ErrRenewByHand)
	}
	if err := Check(p, d, "renew-token", request); err != nil {
		return e, err
	}
	var issued *hostapi.IssuedToken
	step := workstation.HostStep{Host: d.Name, Act: hosts.ActIssue, Data: map[string]string{"label": e.Label}}
	err = batch.Act(ctx, fmt.Sprintf("Let %s issue another token for %s.", d.Name, e.Name), step,
		func() (_ map[string]string, err error) {
			if issued, err = p.Client(d, old.Bound(e)).RenewToken(ctx, e.ID, request); err != nil {
				return nil, refusedToken(err)
			}
			return map[string]string{"id": issued.ID}, nil
		})
	if err != nil || batch.Dry {
		return e, err
	}
	kept := NewToken{Host: d, Secret: chest.Secret{Token: issued.Token}, Purposes: e.Purposes, Scopes: issued.Scopes,
		Label: e.Label, ID: issued.ID, Until: issued.Until, Account: e.Account, Replace: e.Name}
	if d.Can("revoke-token") && issued.ID != e.ID {
		kept.Owed, kept.Secret.Former = e.ID, old.Token
	}
	fresh, _, err := Keep(ctx, p, batch, kept)
	if err != nil || fresh.Owed == "" {
		return fresh, err
	}
	return SettleOwed(ctx, p, batch, d, fresh, kept.Secret)
}

// SettleOwed ends a renewal: the host forgets the token in whose place another came. It is asked
// with that very one, else with the other.
func SettleOwed(ctx context.Context, p site.Site, batch *workstation.Batch, d *describe.Description, e chest.Entry,
	s chest.Secret) (chest.Entry, error) {
	step := workstation.HostStep{Host: d.Name, Act: hosts.ActRevoke, Data: map[string]string{"id": e.Owed}}
	err := batch.Act(ctx, fmt.Sprintf("Make %s forget the token that %s had before.", d.Name, e.Name), step,
		func() (map[string]string, error) {
			err := p.Client(d, origin.Bind(s.Former, e.Places...)).RevokeToken(ctx, e.Owed)
			var refusal *hostapi.Refusal
			switch {
			case !errors.As(err, &refusal):
			case refusal.Status == http.StatusUnauthorized && !s.Former.Empty(): // it is known there no more
				err = nil
			default:
				err = p.Client(d, s.Bound(e)).RevokeToken(ctx, e.Owed)
			}
			return nil, err
		})
	if err != nil || batch.Dry {
		return e, err
	}
	e.Owed = ""
	return Chest(p).Put(e, chest.Secret{Token: s.Token})
}

// Refresh renews a signed-in token without asking anybody.
func Refresh(ctx context.Context, p site.Site, e chest.Entry, old chest.Secret) (chest.Entry, error) {
	d, err := HostOf(p, e)
	if err != nil {
		return e, err
	}
	server, err := oauth.Discover(ctx, d)
	if err != nil {
		return e, err
	}
	grant, err := server.Refresh(ctx, origin.Bind(old.Refresh, e.Places...), e.Scopes)
	if err != nil {
		return e, err
	}
	e.Until, e.Scopes = grant.Until.UTC(), grant.Scopes
	return Chest(p).Put(e, chest.Secret{Token: grant.Access, Refresh: grant.Refresh})
}

// Revoke makes the host forget a token, and then the chest. told is false where the host
// could not be told, because its description does not say how.
func Revoke(ctx context.Context, p site.Site, batch *workstation.Batch, e chest.Entry) (told bool, err error) {
	d, err := HostOf(p, e)
	if err != nil && !errors.Is(err, hosts.ErrUnknown) {
		return false, err
	}
	if d != nil && (d.Can("revoke-token") || e.Signed) {
		s, err := Chest(p).Get(e)
		if err == nil && e.Owed != "" {
			e, err = SettleOwed(ctx, p, batch, d, e, s)
		}
		if err != nil {
			return false, err
		}
		step := workstation.HostStep{Host: d.Name, Act: hosts.ActRevoke, Data: map[string]string{"id": e.ID}}
		err = batch.Act(ctx, fmt.Sprintf("Make %s forget the token %s.", d.Name, e.Name), step,
			func() (map[string]string, error) {
				return nil, ForgetAtHost(ctx, p, d, e, s)
			})
		if err != nil {
			return false, err
		}
		told = true
	}
	step := workstation.HostStep{Host: e.Host, Act: hosts.ActRevoke, Data: map[string]string{"name": e.Name}}
	return told, batch.Act(ctx, fmt.Sprintf("Take the token %s out of the chest.", e.Name), step,
		func() (map[string]string, error) {
			return nil, Chest(p).Remove(e.Name)
		})
}

func ForgetAtHost(ctx context.Context, p site.Site, d *describe.Description, e chest.Entry, s chest.Secret) error {
	if !e.Signed {
		err := p.Client(d, s.Bound(e)).RevokeToken(ctx, e.ID)
		var refusal *hostapi.Refusal
		if errors.As(err, &refusal) && refusal.Status == 401 {
			return nil // it is not known there any more, or has ended
		}
		return err
	}
	server, err := oauth.Discover(ctx, d)
	if err != nil {
		return err
	}
	if !s.Refresh.Empty() {
		if err := server.Forget(ctx, origin.Bind(s.Refresh, e.Places...)); err != nil &&
			!errors.Is(err, oauth.ErrCannot) {
			return err
		}
	}
	if err := server.Forget(ctx, s.Bound(e)); err != nil && !errors.Is(err, oauth.ErrCannot) {
		return err
	}
	return nil
}
