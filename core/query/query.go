// Package query asks the holder a question at its door: the socket from which the chest is opened
// and git is answered. It is no ssh agent's: what ssh may ask, and lend to another computer, is
// another socket and another process. The package needs little, so that git can be answered before
// anything else of the program is ready.
//
// A message is a length (uint32, RFC 4251, section 5) and a body. That of a question is [Version],
// the question's name with its own length before it, and the question; that of an answer is a
// status and the answer.
package query

import (
	"errors"
	"io"
	"slices"
	"time"
)

// Version is the version of what is spoken here. A holder that speaks another one says so.
const Version = 1

// MaxMessage bounds the body of a message: the largest is a secret of the chest, sealed.
const MaxMessage = 256 << 10

// patience bounds the wait for an answer. After a glance it is found out whether there is any use in
// waiting on.
const (
	patience = 5 * time.Second
	glance   = 200 * time.Millisecond
)

// The reasons why [Holder] brings no answer, for errors.Is.
var (
	ErrNoAnswer = errors.New("the holder does not answer")
	ErrNo       = errors.New("the holder does not have it")
	ErrDamaged  = errors.New("the holder cannot open it")
	ErrVersion  = errors.New("the running holder is another version of Unicrux")
)

// ErrStuck is an [ErrNoAnswer] where something listens at the socket: it goes on holding what it holds.
var ErrStuck error = stuck{}

type stuck struct{}

func (stuck) Error() string {
	return "a process listens at the holder's socket and does not respond"
}
func (stuck) Unwrap() error { return ErrNoAnswer }

// unanswered tells of a failed connection or exchange whether somebody is there.
func unanswered(err error) error {
	var late interface{ Timeout() bool }
	if errors.As(err, &late) && late.Timeout() {
		return ErrStuck
	}
	return ErrNoAnswer
}

// statuses are what an answer begins with, in the order of their numbers. A function, because a
// variable would have to be prepared before git is answered.
func statuses() [4]error { return [4]error{nil, ErrNo, ErrDamaged, ErrVersion} }

// ForGit is the name of the question that git asks a credential helper. What is answered is for git
// as it stands, and often nothing at all.
const ForGit = "credential-for-git"

// A GitQuestion is that question.
type GitQuestion struct {
	Data   string // the data folder: whose chest is meant
	Action string // get or store
	Said   []byte // what git said (git-credential(1), INPUT/OUTPUT FORMAT)
}

// Text is the question as the holder gets it. No path has a zero byte in it, and no action.
func (q GitQuestion) Text() []byte {
	return append([]byte(q.Data+"\x00"+q.Action+"\x00"), q.Said...)
}

// ReadGitQuestion reads what [GitQuestion.Text] wrote; ok is false for anything else.
func ReadGitQuestion(text []byte) (q GitQuestion, ok bool) {
	for _, part := range []*string{&q.Data, &q.Action} {
		i := slices.Index(text, 0)
		if i < 0 {
			return GitQuestion{}, false
		}
		*part, text = string(text[:i]), text[i+1:]
	}
	q.Said = text
	return q, true
}

// Holder asks the holder at a socket one question. The error is one of those above.
func Holder(socket, name string, question []byte) ([]byte, error) {
	conn, err := dial(socket)
	if err != nil {
		return nil, unanswered(err)
	}
	defer conn.Close() // the answer is there, or not
	return exchange(conn, name, question)
}

// exchange writes one question and reads one answer.
func exchange(conn io.ReadWriter, name string, question []byte) ([]byte, error) {
	body := append([]byte{Version}, Message([]byte(name))...)
	if _, err := conn.Write(Message(append(body, question...))); err != nil {
		return nil, unanswered(err)
	}
	answer, err := ReadMessage(conn)
	if err != nil {
		return nil, unanswered(err)
	}
	if int(answer[0]) >= len(statuses()) {
		return nil, ErrNoAnswer
	}
	return answer[1:], statuses()[answer[0]]
}

// ReadMessage reads the body of one message, which has at least one byte.
func ReadMessage(r io.Reader) ([]byte, error) {
	var header [4]byte
	if _, err := io.ReadFull(r, header[:]); err != nil {
		return nil, err
	}
	n := length(header[:])
	if n < 1 || n > MaxMessage {
		return nil, ErrNoAnswer
	}
	body := make([]byte, n)
	_, err := io.ReadFull(r, body)
	return body, err
}

// Question reads the body of a message that asks something. The error is [ErrVersion] for one of
// another version, and for anything else.
func Question(body []byte) (name string, question []byte, err error) {
	if len(body) == 0 || body[0] != Version {
		return "", nil, ErrVersion
	}
	text, question, ok := part(body[1:])
	if !ok {
		return "", nil, ErrVersion
	}
	return string(text), question, nil
}

// Whole takes the body of a message that has come as a whole, and nothing behind it; ok is false
// for anything else.
func Whole(message []byte) (body []byte, ok bool) {
	body, rest, ok := part(message)
	return body, ok && len(rest) == 0 && len(body) > 0 && len(body) <= MaxMessage
}

// Answer is the message that answers a question: with a text, or with why there is none.
func Answer(text []byte, err error) []byte {
	status := byte(1) // no
	for number, reason := range statuses() {
		if errors.Is(err, reason) {
			status = byte(number)
		}
	}
	switch {
	case status != 0:
		text = nil
	case len(text) >= MaxMessage:
		status, text = 1, nil
	}
	return Message(append([]byte{status}, text...))
}

// Message is what stands on the wire: a length, and the body.
func Message(body []byte) []byte { return append(number(len(body)), body...) }

// part splits a text behind what its beginning tells the length of.
func part(text []byte) (inside, rest []byte, ok bool) {
	if len(text) < 4 || length(text) > int64(len(text)-4) {
		return nil, nil, false
	}
	text, n := text[4:], length(text)
	return text[:n], text[n:], true
}

// length reads a uint32. Package encoding/binary comes later.
func length(b []byte) int64 {
	return int64(b[0])<<24 | int64(b[1])<<16 | int64(b[2])<<8 | int64(b[3])
}

// number writes one.
func number(n int) []byte { return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)} }
