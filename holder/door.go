package holder

import (
	"errors"
	"net"
	"sync"
	"time"

	"anchorage.example/unicrux/core/query"
)

// doorPatience bounds how long a client may take for a question: programs of ours ask at once.
const doorPatience = 5 * time.Second

// A Vault has what a [Door] answers about.
type Vault interface {
	// Forget drops what has ended, and tells how long it is until the next thing ends; ok is false
	// when nothing is held.
	Forget() (left time.Duration, ok bool)
	RemoveAll()
	// Answer answers a question. An error is one of package query's reasons, or wraps one.
	Answer(name string, question []byte) ([]byte, error)
}

// The questions that every door answers itself.
const (
	aliveQuestion  = "alive"      // is it one?
	forgetQuestion = "forget-all" // forget everything, and end
)

// A Door is the content of the holder that answers about the chest.
type Door struct {
	mu      sync.Mutex
	vault   Vault
	retired bool
	changed chan struct{}
}

// NewDoor makes the door to a vault.
func NewDoor(vault Vault) *Door { return &Door{vault: vault, changed: make(chan struct{}, 1)} }

// Changed tells when it is time to call [Door.Forget] anew.
func (d *Door) Changed() <-chan struct{} { return d.changed }

// Forget drops what has ended.
func (d *Door) Forget() (time.Duration, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.vault.Forget()
}

// Retire makes the door answer nothing more, provided that nothing is held.
func (d *Door) Retire() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if _, holds := d.vault.Forget(); holds {
		return false
	}
	d.retired = true
	return true
}

// RemoveAll forgets everything.
func (d *Door) RemoveAll() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.vault.RemoveAll()
	d.tell()
}

func (d *Door) tell() {
	select {
	case d.changed <- struct{}{}:
	default:
	}
}

// Serve answers one client, question after question.
func (d *Door) Serve(conn net.Conn) {
	for {
		if conn.SetDeadline(time.Now().Add(doorPatience)) != nil {
			return
		}
		body, err := query.ReadMessage(conn)
		if err != nil {
			return
		}
		if answer, _ := d.answer(body); write(conn, answer) != nil {
			return
		}
	}
}

// AtOnce answers git's question, if that is what was said.
func (d *Door) AtOnce(said []byte) ([]byte, bool) {
	body, whole := query.Whole(said)
	if !whole {
		return nil, false
	}
	name, _, err := query.Question(body)
	if err != nil || name != query.ForGit {
		return nil, false
	}
	return d.answer(body)
}

func write(conn net.Conn, answer []byte) error {
	_, err := conn.Write(answer)
	clear(answer)
	return err
}

// answer answers a question, whole: what is held may be wiped at the next. ok is false where there
// is no more than a reason.
func (d *Door) answer(body []byte) (message []byte, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	text, err := d.about(body)
	return query.Answer(text, err), err == nil
}

func (d *Door) about(body []byte) ([]byte, error) {
	name, question, err := query.Question(body)
	switch {
	case err != nil:
		return nil, err
	case d.retired:
		return nil, query.ErrNo
	case name == aliveQuestion:
		return nil, nil
	case name == forgetQuestion:
		d.vault.RemoveAll()
		d.tell()
		return nil, nil
	}
	before, held := d.vault.Forget()
	answer, err := d.vault.Answer(name, question)
	if after, holds := d.vault.Forget(); holds != held || after > before {
		d.tell()
	}
	return answer, err
}

// DoorAnswers tells whether a holder serves the chest's door at a socket.
func DoorAnswers(socket string) bool {
	_, err := query.Holder(socket, aliveQuestion, nil)
	return err == nil || errors.Is(err, query.ErrVersion)
}
