package registration_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/takeback"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/fixture"
)

// TestRegister registers a key, proves it, compares, withdraws it, and takes both back.
func TestRegister(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "")
	r := registration.Registration{Pair: pair, Host: s.Description, Title: "the desk at home", Token: s.Owner(),
		Ask: s.Secrets("").Passphrase}
	batch := s.Batch()
	done, err := registration.Register(t.Context(), s.Site, batch, r)
	if err != nil || done.Already || done.Account != s.Host.Owner() || done.Proof != registration.SignedIn {
		t.Fatalf("%+v, %v", done, err)
	}
	if ours := s.Read(".ssh", "unicrux.conf"); !strings.Contains(ours, "IdentityFile ~/.ssh/mine") {
		t.Errorf("settings do not lead to it:\n%s", ours)
	}
	again, err := registration.Register(t.Context(), s.Site, s.Batch(), r)
	if err != nil || !again.Already {
		t.Errorf("once more: %+v, %v", again, err)
	}
	r.Until = time.Now().AddDate(0, 1, 0)
	if _, err := registration.Register(t.Context(), s.Site, s.Batch(), r); !errors.Is(err, registration.ErrOtherTerms) {
		t.Errorf("on other terms: %v", err)
	}
	list, err := registration.Compare(t.Context(), s.Site, s.Description, hostapi.KeyList{}, s.Owner())
	found := false
	for _, c := range list {
		found = found || c.Pair != nil && c.Pair.Name() == "mine"
	}
	if err != nil || !found {
		t.Errorf("compared: %+v, %v", list, err)
	}
	token := func(*describe.Description) (origin.Bound, error) { return s.Owner(), nil }
	withdrawn := s.Batch()
	if _, err := registration.Withdraw(t.Context(), s.Site, withdrawn, pair, s.Description, hostapi.KeyList{},
		s.Owner()); err != nil {
		t.Fatal(err)
	}
	takes := func(want bool, when string) {
		t.Helper()
		if got, err := registration.Takes(t.Context(), s.Site, s.Description, pair); err != nil || got != want {
			t.Errorf("%s the host accepts the key: %v, %v", when, got, err)
		}
	}
	takes(false, "withdrawn,")
	if _, err := registration.Withdraw(t.Context(), s.Site, s.Batch(), pair, s.Description, hostapi.KeyList{},
		s.Owner()); !errors.Is(err, registration.ErrNotThere) {
		t.Errorf("withdrawn twice: %v", err)
	}
	for _, step := range withdrawn.Change().Steps {
		if err := takeback.Step(t.Context(), s.Site, *step.Host, token); err != nil {
			t.Error(err)
		}
	}
	takes(true, "taken back,")
	for _, step := range batch.Change().Steps {
		if step.Host != nil {
			if err := takeback.Step(t.Context(), s.Site, *step.Host, token); err != nil {
				t.Error(err)
			}
		}
	}
	takes(false, "all taken back,")
	if err := takeback.Step(t.Context(), s.Site, workstation.HostStep{Host: "forge", Act: "sing"},
		token); !errors.Is(err, takeback.ErrUnknownAct) {
		t.Errorf("an act that nobody knows: %v", err)
	}
}

// TestRefused has every reason for which a registration is refused before anybody is asked for a token.
func TestRefused(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "")
	picky, web := *s.Description, *s.Description
	picky.Keys.Kinds = []string{"rsa"}
	web.SSH.Host = ""
	for name, row := range map[string]struct {
		change func(*registration.Registration)
		want   error
	}{
		"as it should be": {func(*registration.Registration) {}, nil},
		"no title":        {func(r *registration.Registration) { r.Title = "" }, registration.ErrTitle},
		"two lines":       {func(r *registration.Registration) { r.Title = "a\nb" }, registration.ErrTitle},
		"too long": {func(r *registration.Registration) { r.Host.Keys.Title, r.Title = 3, "long" },
			registration.ErrTitle},
		"another type": {func(r *registration.Registration) { r.Host = &picky }, registration.ErrHostKind},
		"no SSH there": {func(r *registration.Registration) { r.Host = &web }, hosts.ErrNoSSH},
	} {
		d := *s.Description
		r := registration.Registration{Pair: pair, Host: &d, Title: "a title"}
		row.change(&r)
		if err := r.Check(); !errors.Is(err, row.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// An account that the token is not of.
	as := s.Description.As("lab")
	r := registration.Registration{Pair: pair, Host: as, Title: "a title", Token: s.Owner()}
	if _, err := registration.Register(t.Context(), s.Site, s.Batch(), r); !errors.Is(err, tokens.ErrOwner) {
		t.Errorf("another account's token: %v", err)
	}
}

// TestAnothersKey: a key that opens another account is not registered for this one as well.
func TestAnothersKey(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "")
	if _, err := s.Host.Register("lab", "hers", pair.Public); err != nil {
		t.Fatal(err)
	}
	_, err := registration.Register(t.Context(), s.Site, s.Batch(),
		registration.Registration{Pair: pair, Host: s.Description, Title: "mine", Token: s.Owner(),
			Ask: s.Secrets("").Passphrase})
	var other *registration.OtherAccountError
	if !errors.As(err, &other) || !errors.Is(err, registration.ErrOtherAccount) ||
		!strings.Contains(err.Error(), "account") {
		t.Errorf("%v", err)
	}
}

// TestByHand tries until the host accepts the key, and until it does not any longer.
func TestByHand(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "")
	r := registration.Registration{Pair: pair, Host: s.Description, Title: "by hand"}
	if _, err := registration.ByHand(t.Context(), s.Site, s.Batch(), r, 0); !errors.Is(err, registration.ErrWaited) {
		t.Errorf("nobody told the host: %v", err)
	}
	if _, err := s.Host.Register(s.Host.Owner(), "by hand", pair.Public); err != nil {
		t.Fatal(err)
	}
	done, err := registration.ByHand(t.Context(), s.Site, s.Batch(), r, time.Minute)
	if err != nil || done.Account != s.Host.Owner() {
		t.Errorf("%+v, %v", done, err)
	}
	if known, err := hosts.KnownKeys(s.Station); err != nil || len(known[sshkey.Fingerprint(pair.Public)]) != 1 {
		t.Errorf("not noted: %v, %v", known, err)
	}
	if list, more, err := registration.CompareByTrying(t.Context(), s.Site, s.Description); err != nil || more ||
		len(list) != 1 {
		t.Errorf("tried: %+v, %v, %v", list, more, err)
	}
	if err := registration.WithdrawByHand(t.Context(), s.Site, s.Batch(), pair, s.Description, 0); !errors.Is(err,
		registration.ErrStillTaken) {
		t.Errorf("it is still there: %v", err)
	}
	s.Host.Forget(pair.Public)
	if err := registration.WithdrawByHand(t.Context(), s.Site, s.Batch(), pair, s.Description, 0); err != nil {
		t.Errorf("it is gone: %v", err)
	}
}

// TestLockedKey: a host can be seen to take a key that nobody can open.
func TestLockedKey(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "a word")
	r := registration.Registration{Pair: pair, Host: s.Description, Title: "locked", Token: s.Owner(),
		Ask: s.Secrets("another word").Passphrase}
	done, err := registration.Register(t.Context(), s.Site, s.Batch(), r)
	if err != nil && done == nil {
		t.Fatal(err)
	}
	if done.Proof != registration.KeyTaken && err == nil {
		t.Errorf("%+v", done)
	}
}
