// Package desktop keeps secrets with the desktop's own service: the Secret Service on
// Linux (the freedesktop.org specification of that name), the keychain on macOS, the
// credential manager on Windows.
package desktop

import (
	"errors"
	"os"
	"runtime"
	"strconv"
	"time"

	"github.com/zalando/go-keyring"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/secret"
)

// service is under what our entries are found in the desktop's own program.
const service = "unicrux"

// patience bounds the wait for an answer. The service may ask the person to open it first.
const patience = 2 * time.Minute

// The reasons why [Get], [Keep] and [Forget] fail, for errors.Is.
var (
	ErrNone      = errors.New("the desktop's secret service keeps no such secret")
	ErrNoService = fault.New("desktop-no-service", fault.Failed, "no desktop secret service answers here")
)

// Answers tells whether there is a service to ask. Without a session bus the library would
// start one for itself, with nothing in it.
func Answers() bool {
	if runtime.GOOS != "linux" {
		return true
	}
	if address := os.Getenv("DBUS_SESSION_BUS_ADDRESS"); address != "" {
		return address != "autolaunch:"
	}
	_, err := os.Stat("/run/user/" + strconv.Itoa(os.Getuid()) + "/bus")
	return err == nil
}

// Get returns the secret of that name.
func Get(name string) (secret.Text, error) {
	var text string
	err := ask(func() (err error) {
		text, err = keyring.Get(service, name)
		return err
	})
	return secret.New([]byte(text)), err
}

// Keep stores a secret under a name, in place of an earlier one.
func Keep(name string, text secret.Text) error {
	return ask(func() error { return keyring.Set(service, name, string(text.Reveal())) })
}

// Forget removes the secret of that name.
func Forget(name string) error {
	return ask(func() error { return keyring.Delete(service, name) })
}

// ask bounds a question, and turns the library's errors into ours: its words may be
// anything that a service on the bus says.
func ask(question func() error) error {
	if !Answers() {
		return ErrNoService
	}
	answered := make(chan error, 1)
	go func() { answered <- question() }()
	select {
	case err := <-answered:
		switch {
		case err == nil:
			return nil
		case errors.Is(err, keyring.ErrNotFound):
			return ErrNone
		}
		return ErrNoService
	case <-time.After(patience):
		return ErrNoService
	}
}
