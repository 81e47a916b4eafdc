package secret

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
)

const hidden = "correct-horse-of-tidewater"

func TestTextHidesItself(t *testing.T) {
	text := New([]byte(hidden))
	holder := struct{ Pass Text }{text}
	var out bytes.Buffer
	for _, verb := range []string{"%s", "%v", "%+v", "%#v", "%q", "%x", "%d"} {
		fmt.Fprintf(&out, verb+"\n", text)
		fmt.Fprintf(&out, verb+"\n", holder)
	}
	fmt.Fprintln(&out, fmt.Errorf("opening: %v", text))
	slog.New(slog.NewJSONHandler(&out, nil)).Info("opened", "pass", text, "holder", holder)
	document, err := json.Marshal(holder)
	if err != nil {
		t.Fatal(err)
	}
	out.Write(document)
	for width := 8; width <= len(hidden); width++ {
		if strings.Contains(out.String(), hidden[:width]) {
			t.Fatalf("%d bytes of the secret got out:\n%s", width, out.String())
		}
	}
	if strings.Contains(out.String(), fmt.Sprintf("%x", hidden[:8])) {
		t.Fatalf("the secret got out in hexadecimal:\n%s", out.String())
	}
}

func TestReadTrimsOneLineEnd(t *testing.T) {
	for _, row := range []struct{ in, want string }{
		{"a", "a"}, {"a\n", "a"}, {"a\r\n", "a"}, {"a\n\n", "a\n"}, {" a ", " a "}, {"", ""},
	} {
		got, err := Read(strings.NewReader(row.in))
		if err != nil || string(got.Reveal()) != row.want {
			t.Errorf("Read(%q) = %q, %v; want %q", row.in, got.Reveal(), err, row.want)
		}
	}
}

func TestReadIsBounded(t *testing.T) {
	if _, err := Read(strings.NewReader(strings.Repeat("a", MaxBytes))); err != nil {
		t.Errorf("at the limit: %v", err)
	}
	if _, err := Read(strings.NewReader(strings.Repeat("a", MaxBytes+1))); !errors.Is(err, ErrTooLong) {
		t.Errorf("past the limit: %v, want ErrTooLong", err)
	}
}
