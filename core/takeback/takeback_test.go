package takeback_test

import (
	"errors"
	"testing"

	"github.com/zalando/go-keyring"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/desktop"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/takeback"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/fixture"
)

var errAsked = errors.New("a token was asked for")

func nobody(*describe.Description) (origin.Bound, error) { return origin.Bound{}, errAsked }

// TestWhatIsNotTakenBack: what was only seen needs nobody, and what this version does not know is refused.
func TestWhatIsNotTakenBack(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	for act, want := range map[string]error{hosts.ActSee: nil, hosts.ActMiss: nil, hosts.ActRepo: nil,
		"paint": takeback.ErrUnknownAct, hosts.ActAdd: errAsked, hosts.ActRemove: errAsked} {
		step := workstation.HostStep{Host: "forge", Act: act}
		if err := takeback.Step(t.Context(), s.Site, step, nobody); !errors.Is(err, want) {
			t.Errorf("%s: %v", act, err)
		}
	}
	unknown := workstation.HostStep{Host: "nowhere", Act: hosts.ActAdd}
	if err := takeback.Step(t.Context(), s.Site, unknown, nobody); err == nil || errors.Is(err, errAsked) {
		t.Errorf("a host that nobody described any more: %v", err)
	}
}

// TestAKey: a key that was registered is withdrawn, and one that is gone already is no error.
func TestAKey(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	batch := s.Batch()
	r := registration.Registration{Pair: s.Key("mine", ""), Host: s.Description, Title: "mine", Token: s.Owner(),
		Ask: s.Secrets("").Passphrase}
	if _, err := registration.Register(t.Context(), s.Site, batch, r); err != nil {
		t.Fatal(err)
	}
	told := 0
	for _, step := range batch.Change().Steps {
		if step.Host == nil || step.Host.Act != hosts.ActAdd {
			continue
		}
		told++
		for range 2 {
			if err := takeback.Step(t.Context(), s.Site, *step.Host,
				func(*describe.Description) (origin.Bound, error) { return s.Owner(), nil }); err != nil {
				t.Error(err)
			}
		}
	}
	again, err := registration.Register(t.Context(), s.Site, s.Batch(), r)
	if told != 1 || err != nil || again.Already {
		t.Errorf("told %d times; the host knows it still: %+v, %v", told, again, err)
	}
}

// TestAPassphrase that the desktop keeps is forgotten; it is not parallel, since the library's service is pretended.
func TestAPassphrase(t *testing.T) {
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
	keyring.MockInit()
	if err := desktop.Keep("mine", secret.New([]byte("word"))); err != nil {
		t.Fatal(err)
	}
	s := fixture.At(t, "forge")
	step := workstation.HostStep{Act: keys.ActKeepPassphrase, Data: map[string]string{"name": "mine"}}
	for range 2 {
		if err := takeback.Step(t.Context(), s.Site, step, nobody); err != nil {
			t.Error(err)
		}
	}
	if _, err := desktop.Get("mine"); !errors.Is(err, desktop.ErrNone) {
		t.Error(err)
	}
}
