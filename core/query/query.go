// Package query asks the holder a question of ours: an extension of the agent protocol
// (draft-ietf-sshm-ssh-agent, section 3.8). It needs little, so that git can be answered before
// anything else of the program is ready.
package query

import (
	"errors"
	"io"
	"slices"
	"time"
)

// The messages of the draft (section 7.1).
const (
	extension = 27
	// Response begins what is answered to an extension.
	Response = 29
)

// patience bounds the wait for each part of an answer.
const patience = 5 * time.Second

// maxAnswer bounds an answer: the largest is a secret of an entry, whose file has at most 1 MiB.
const maxAnswer = 2 << 20

// ErrNoAnswer is returned when nobody at a socket answers a question, or answers no.
var ErrNoAnswer = errors.New("the holder does not answer")

// ForGit is the name of the question that git asks a credential helper. What is answered is for git
// as it stands, and often nothing at all.
const ForGit = "credential-for-git@unicrux"

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

// Holder asks the holder at a socket one question.
func Holder(socket, name string, question []byte) ([]byte, error) {
	conn, err := dial(socket)
	if err != nil {
		return nil, ErrNoAnswer
	}
	defer conn.Close() //nolint:errcheck // the answer is there, or not
	return exchange(conn, name, question)
}

// exchange writes one request and reads one response (sections 3 and 3.8).
func exchange(conn io.ReadWriter, name string, question []byte) ([]byte, error) {
	body := append([]byte{extension}, Message([]byte(name))...)
	if _, err := conn.Write(Message(append(body, question...))); err != nil {
		return nil, ErrNoAnswer
	}
	var header [4]byte
	if _, err := io.ReadFull(conn, header[:]); err != nil {
		return nil, ErrNoAnswer
	}
	n := length(header[:])
	if n < 1 || n > maxAnswer {
		return nil, ErrNoAnswer
	}
	answer := make([]byte, n)
	if _, err := io.ReadFull(conn, answer); err != nil || answer[0] != Response {
		return nil, ErrNoAnswer
	}
	return answer[1:], nil
}

// Read reads a message that asks a question; ok is false for anything else, and for a part of one.
func Read(message []byte) (name string, question []byte, ok bool) {
	body, rest, ok := part(message)
	if !ok || len(rest) > 0 || len(body) == 0 || body[0] != extension {
		return "", nil, false
	}
	text, question, ok := part(body[1:])
	return string(text), question, ok
}

// Message is what stands on the wire: its length, and the rest of it (section 3).
func Message(body []byte) []byte { return append(number(len(body)), body...) }

// part splits a text behind what its beginning tells the length of.
func part(text []byte) (inside, rest []byte, ok bool) {
	if len(text) < 4 || length(text) > int64(len(text)-4) {
		return nil, nil, false
	}
	text, n := text[4:], length(text)
	return text[:n], text[n:], true
}

// length reads a uint32 (RFC 4251, section 5). Package encoding/binary comes later.
func length(b []byte) int64 {
	return int64(b[0])<<24 | int64(b[1])<<16 | int64(b[2])<<8 | int64(b[3])
}

// number writes one.
func number(n int) []byte { return []byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)} }
