package query

import (
	"bytes"
	"errors"
	"io"
	"net"
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
	long := strings.Repeat("a", 300_000)
	for name, row := range map[string]struct {
		parts []string // what the holder sends
		want  string
		fails bool
	}{
		"an answer":           {[]string{"\x00\x00\x00\x05\x1dtide"}, "tide", false},
		"nothing":             {[]string{"\x00\x00\x00\x01\x1d"}, "", false},
		"in parts":            {[]string{"\x00\x00", "\x00\x05\x1d", "ti", "de"}, "tide", false},
		"a long one":          {[]string{"\x00\x04\x93\xe1\x1d" + long}, long, false},
		"no":                  {[]string{"\x00\x00\x00\x01\x1c"}, "", true},
		"a failure":           {[]string{"\x00\x00\x00\x01\x05"}, "", true},
		"without a kind":      {[]string{"\x00\x00\x00\x00"}, "", true},
		"longer than allowed": {[]string{"\xff\xff\xff\xff\x1d"}, "", true},
		"cut short":           {[]string{"\x00\x00\x00\x05\x1dti"}, "", true},
		"hung up":             {nil, "", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			socket := filepath.Join(t.TempDir(), "s")
			listener, err := net.Listen("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			defer listener.Close() //nolint:errcheck // the test is over
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
			if string(got) != row.want || errors.Is(err, ErrNoAnswer) != row.fails {
				t.Errorf("%.20q, %v", got, err)
			}
			if message := <-heard; message != "\x00\x00\x00\x0b\x1b\x00\x00\x00\x04name??" {
				t.Errorf("heard %q", message)
			}
		})
	}
	if _, err := Holder(filepath.Join(t.TempDir(), "nobody"), "name", nil); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("nobody there: %v", err)
	}
}

// TestGitQuestion reads what it wrote.
func TestGitQuestion(t *testing.T) {
	t.Parallel()
	for _, row := range []GitQuestion{{"/home/ines/.local/share/unicrux", "get", []byte("protocol=https\n\n")}, {"/x", "store", []byte{}}, {"", "", []byte("host=\x00\n")}} {
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

// TestRead takes whole questions alone.
func TestRead(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		message, name, question string
		ok                      bool
	}{
		{"\x00\x00\x00\x0b\x1b\x00\x00\x00\x04name??", "name", "??", true},
		{"\x00\x00\x00\x05\x1b\x00\x00\x00\x00", "", "", true},
		{"\x00\x00\x00\x0b\x1b\x00\x00\x00\x04name?", "", "", false},
		{"\x00\x00\x00\x0b\x1b\x00\x00\x00\x04name???", "", "", false},
		{"\x00\x00\x00\x0b\x1b\xff\xff\xff\xffname??", "", "", false},
		{"\x00\x00\x00\x01\x0b", "", "", false},
		{"\x00\x00\x00\x00", "", "", false},
		{"", "", "", false},
	} {
		if name, question, ok := Read([]byte(row.message)); ok != row.ok || name != row.name || string(question) != row.question {
			t.Errorf("%q: %q, %q, %v", row.message, name, question, ok)
		}
	}
}

// FuzzRead writes what it read as it stood.
func FuzzRead(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x0b\x1b\x00\x00\x00\x04name??"))
	f.Add([]byte("\xff\xff\xff\xff\x1b"))
	f.Fuzz(func(t *testing.T, message []byte) {
		name, question, ok := Read(message)
		if !ok {
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
	for _, seed := range []string{"\x00\x00\x00\x05\x1dtide", "\x00\x00\x00\x01\x05", "\xff\xff\xff\xff\x1d", "\x00\x00\x00\x00", ""} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, said []byte) {
		answer, err := exchange(conversation{bytes.NewReader(said), io.Discard}, "name", nil)
		if err == nil && !bytes.HasPrefix(said, append(append(number(len(answer)+1), Response), answer...)) {
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
