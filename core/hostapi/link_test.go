package hostapi

import (
	"strings"
	"testing"
)

// TestNextLink reads the forms that the standard allows.
func TestNextLink(t *testing.T) {
	const want = "https://h/a?p=2"
	for header, want := range map[string]string{
		`<https://h/a?p=2>; rel="next"`:                                want,
		`<https://h/a?p=2>;rel=next`:                                   want,
		`<https://h/a?p=2> ; rel = "next"`:                             want,
		`<https://h/a?p=2>; REL="next"`:                                want,
		`<https://h/a?p=2>; rel="Next"`:                                want,
		`<https://h/a?p=2>; rel="last next"`:                           want,
		`<https://h/a?p=2>; rel="https://x/rel next"`:                  want,
		`<https://h/a,b?p=2,3>; rel="next"`:                            "https://h/a,b?p=2,3",
		`<https://h/a;b?p=2;x>; rel="next"`:                            "https://h/a;b?p=2;x",
		`<https://h/a?p=1>; rel="prev", <https://h/a?p=2>; rel="next"`: want,
		`<https://h/a?p=1>; rel=prev,<https://h/a?p=2>;rel=next`:       want,
		`<https://h/a?p=2>; title="a, <b>; c"; rel="next"`:             want,
		`<https://h/a?p=2>; title="say \"x\""; rel="next"`:             want,
		`<https://h/a?p=2>; title*=UTF-8''x; rel="next"`:               want,
		`<https://h/a?p=2>;foo;rel="next"`:                             want,
		` , <https://h/a?p=2>; rel="next"`:                             want,
		`</a?p=2>; rel="next"`:                                         "/a?p=2",
		`<https://h/a?p=1>; rel="prev"; rel="next"`:                    "",
		`<https://h/a?p=1>; rel="nextish"`:                             "",
		`<https://h/a?p=1>`:                                            "",
		`<https://h/a?p=1`:                                             "",
		`https://h/a?p=2; rel="next"`:                                  "",
		``:                                                             "",
	} {
		if got := nextLink([]string{header}); got != want {
			t.Errorf("%s: %q, want %q", header, got, want)
		}
	}
	if got := nextLink([]string{`<https://h/1>; rel="prev"`, `<https://h/2>; rel="next"`}); got != "https://h/2" {
		t.Errorf("in a second header: %q", got)
	}
}

// FuzzNextLink: whatever comes is read in the end, once, and what is found stood between angle brackets.
func FuzzNextLink(f *testing.F) {
	f.Add(`<https://h/a?p=1>; rel="prev", <https://h/a?p=2>; rel="next"`)
	f.Add(`<a>; title="\`)
	f.Fuzz(func(t *testing.T, header string) {
		if got := nextLink([]string{header}); got != "" && !strings.Contains(header, "<"+got+">") {
			t.Errorf("%q is not in %q", got, header)
		}
	})
}
