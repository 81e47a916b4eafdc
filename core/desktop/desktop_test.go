package desktop

import (
	"errors"
	"testing"

	"github.com/zalando/go-keyring"

	"anchorage.example/unicrux/core/secret"
)

// TestDesktop has the library's own pretended service answer; a real one answers in package chest and in acceptance/.
func TestDesktop(t *testing.T) {
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
	keyring.MockInit()
	if _, err := Get("mine"); !errors.Is(err, ErrNone) {
		t.Errorf("nothing is there: %v", err)
	}
	for _, words := range []string{"one", "another\n\xff"} { // the second in place of the first
		if err := Keep("mine", secret.New([]byte(words))); err != nil {
			t.Fatal(err)
		}
		if got, err := Get("mine"); err != nil || string(got.Reveal()) != words {
			t.Errorf("%q, %v", got.Reveal(), err)
		}
	}
	if err := Forget("mine"); err != nil {
		t.Error(err)
	}
	if err := Forget("mine"); !errors.Is(err, ErrNone) {
		t.Errorf("forgotten already: %v", err)
	}
	keyring.MockInitWithError(errors.New("words of whoever is on the bus"))
	if err := Keep("mine", secret.New([]byte("x"))); err == nil || err.Error() != ErrNoService.Error() {
		t.Errorf("its words are told: %v", err)
	}
}

// TestNobodyIsAsked where no service can answer: the library would start one, with nothing in it.
func TestNobodyIsAsked(t *testing.T) {
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "autolaunch:")
	keyring.MockInit()
	if err := Keep("mine", secret.New([]byte("x"))); !errors.Is(err, ErrNoService) {
		t.Error(err)
	}
}
