package wire

import (
	"bufio"
	"io"
	"strings"
	"testing"
)

func TestGreetHg(t *testing.T) {
	for text, open := range map[string]bool{
		"20\ncapabilities: batch\n":                  true,
		"welcome\n12\nno\n20\ncapabilities: batch\n": false, // 12 bytes are no greeting, and eat the next line's head
		"welcome\n20\ncapabilities: batch\n":         true,
		"20\ncapabilities":                           false,
		"abort: repository x not found\n":            false,
		"":                                           false,
		strings.Repeat("x", 1<<20) + "\n20\ncapabilities": false,
	} {
		ad, err := greetHg(io.Discard, bufio.NewReader(strings.NewReader(text)))
		if (err == nil) != open || len(ad.words) > maxWords {
			t.Errorf("%.40q: %v", text, err)
		}
	}
}

func FuzzGreetHg(f *testing.F) {
	f.Add("20\ncapabilities: batch\n")
	f.Fuzz(func(t *testing.T, text string) {
		if ad, _ := greetHg(io.Discard, bufio.NewReader(strings.NewReader(text))); len(ad.words) > maxWords {
			t.Errorf("%d bytes of words", len(ad.words))
		}
	})
}
