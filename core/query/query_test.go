package query

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"
)

// TestHolder lets a holder answer rightly and wrongly.
func TestHolder(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Log("a pipe is no socket")
		return
	}
	long := strings.Repeat("a", MaxMessage-1)
	for name, row := range map[string]struct {
		parts []string // what the holder sends
		want  string
		err   error
	}{
		"an answer":           {[]string{"\x00\x00\x00\x05\x00tide"}, "tide", nil},
		"nothing":             {[]string{"\x00\x00\x00\x01\x00"}, "", nil},
		"in parts":            {[]string{"\x00\x00", "\x00\x05\x00", "ti", "de"}, "tide", nil},
		"as long as allowed":  {[]string{"\x00\x04\x00\x00\x00" + long}, long, nil},
		"no":                  {[]string{"\x00\x00\x00\x01\x01"}, "", ErrNo},
		"damaged":             {[]string{"\x00\x00\x00\x01\x02"}, "", ErrDamaged},
		"another version":     {[]string{"\x00\x00\x00\x01\x03"}, "", ErrVersion},
		"no status that is":   {[]string{"\x00\x00\x00\x01\x04"}, "", ErrNoAnswer},
		"without a status":    {[]string{"\x00\x00\x00\x00"}, "", ErrNoAnswer},
		"longer than allowed": {[]string{"\x00\x04\x00\x01\x00" + long + "a"}, "", ErrNoAnswer},
		"cut short":           {[]string{"\x00\x00\x00\x05\x00ti"}, "", ErrNoAnswer},
		"hung up":             {nil, "", ErrNoAnswer},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			if err := os.Chmod(folder, 0o700); err != nil {
				t.Fatal(err)
			}
			socket := filepath.Join(folder, "s")
			listener, err := net.Listen("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			defer listener.Close() // the test is over
			heard := make(chan string, 1)
			go func() {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				message := make([]byte, 4+1+4+4+2)
				_, _ = io.ReadFull(conn, message)
				for _, part := range row.parts {
					_, _ = io.WriteString(conn, part)
				}
				_ = conn.Close()
				heard <- string(message)
			}()
			got, err := Holder(socket, "name", []byte("??"))
			if string(got) != row.want || err != row.err {
				t.Errorf("%.20q, %v", got, err)
			}
			if message := <-heard; message != "\x00\x00\x00\x0b\x01\x00\x00\x00\x04name??" {
				t.Errorf("heard %q", message)
			}
		})
	}
	open := filepath.Join(t.TempDir(), "open")
	if err := errors.Join(os.Mkdir(open, 0o755), os.Chmod(open, 0o777)); err != nil {
		t.Fatal(err)
	}
	listener, err := net.Listen("unix", filepath.Join(open, "s"))
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close() // the test is over
	if _, err := Holder(filepath.Join(open, "s"), "name", nil); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("where anybody may put a socket: %v", err)
	}
	if _, err := Holder(filepath.Join(t.TempDir(), "nobody"), "name", nil); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("nobody there: %v", err)
	}
}

// TestGitQuestion reads what it wrote.
func TestGitQuestion(t *testing.T) {
	t.Parallel()
	for _, row := range []GitQuestion{{"/home/ines/.local/share/unicrux", "get", []byte("protocol=https\n\n")},
		{"/x", "store", []byte{}}, {"", "", []byte("host=\x00\n")}} {
		if q, ok := ReadGitQuestion(row.Text()); !ok || !reflect.DeepEqual(q, row) {
			t.Errorf("%q: %q", row, q)
		}
	}
	for _, text := range []string{"", "/x", "/x\x00get"} {
		if q, ok := ReadGitQuestion([]byte(text)); ok {
			t.Errorf("%q: %q", text, q)
		}
	}
}

// TestQuestion takes whole questions of this version alone.
func TestQuestion(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		message, name, question string
		err                     error
	}{
		{"\x00\x00\x00\x0b\x01\x00\x00\x00\x04name??", "name", "??", nil},
		{"\x00\x00\x00\x05\x01\x00\x00\x00\x00", "", "", nil},
		{"\x00\x00\x00\x0b\x02\x00\x00\x00\x04name??", "", "", ErrVersion},
		{"\x00\x00\x00\x0b\x01\xff\xff\xff\xffname??", "", "", ErrVersion},
		{"\x00\x00\x00\x01\x0b", "", "", ErrVersion},
	} {
		body, ok := Whole([]byte(row.message))
		if name, question, err := Question(body); !ok || name != row.name || string(question) != row.question ||
			err != row.err {
			t.Errorf("%q: %q, %q, %v", row.message, name, question, err)
		}
	}
	for _, part := range []string{"", "\x00\x00", "\x00\x00\x00\x00", "\x00\x00\x00\x02\x01",
		"\x00\x00\x00\x01\x01\x01", "\xff\xff\xff\xff\x01"} {
		if body, ok := Whole([]byte(part)); ok {
			t.Errorf("%q is taken for a message: %q", part, body)
		}
	}
	for _, row := range []struct {
		text string
		err  error
		want string
	}{{"tide", nil, "\x00\x00\x00\x05\x00tide"}, {"tide", ErrNo, "\x00\x00\x00\x01\x01"},
		{"", fmt.Errorf("%w: x", ErrDamaged), "\x00\x00\x00\x01\x02"},
		{"", io.EOF, "\x00\x00\x00\x01\x01"}, {strings.Repeat("a", MaxMessage), nil, "\x00\x00\x00\x01\x01"}} {
		if got := string(Answer([]byte(row.text), row.err)); got != row.want {
			t.Errorf("%.9q, %v: %.20q", row.text, row.err, got)
		}
	}
}

// FuzzQuestion writes what it read as it stood.
func FuzzQuestion(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x0b\x01\x00\x00\x00\x04name??"))
	f.Add([]byte("\xff\xff\xff\xff\x01"))
	f.Fuzz(func(t *testing.T, message []byte) {
		body, ok := Whole(message)
		name, question, err := Question(body)
		if !ok || err != nil {
			return
		}
		var written bytes.Buffer
		_, _ = exchange(conversation{strings.NewReader(""), &written}, name, question) // nobody answers
		if !bytes.Equal(written.Bytes(), message) {
			t.Errorf("%q: %q, %q", message, name, question)
		}
	})
}

// conversation hears anything, and says one thing.
type conversation struct {
	io.Reader
	io.Writer
}

// FuzzExchange lets a holder answer anything: what is taken from it is a whole answer.
func FuzzExchange(f *testing.F) {
	for _, seed := range []string{"\x00\x00\x00\x05\x00tide", "\x00\x00\x00\x01\x01", "\xff\xff\xff\xff\x00",
		"\x00\x00\x00\x00", ""} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		answer, err := exchange(conversation{bytes.NewReader(said), io.Discard}, "name", nil)
		if err == nil && !bytes.HasPrefix(said, append(append(number(len(answer)+1), 0), answer...)) {
			t.Errorf("%q: %q", said, answer)
		}
	})
}

// FuzzGitQuestion writes what it read as it stood.
func FuzzGitQuestion(f *testing.F) {
	f.Add([]byte("/home/ines/.local/share/unicrux\x00get\x00protocol=https\n\n"))
	f.Add([]byte("\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if q, ok := ReadGitQuestion(text); ok && !bytes.Equal(q.Text(), text) {
			t.Errorf("%q: %+v", text, q)
		}
	})
}
