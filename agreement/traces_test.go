package agreement

import (
	"encoding/base64"
	"strings"
	"testing"
)

// TestTrace: the check that nothing of a secret is left can fail.
func TestTrace(t *testing.T) {
	t.Parallel()
	const secret = "seven tides and a lantern"
	for name, text := range map[string]string{
		"as it is":     "x " + secret + " y",
		"a part":       "tides and a lan",
		"base64":       base64.StdEncoding.EncodeToString([]byte("--" + secret + "--")),
		"base64, at 0": base64.StdEncoding.EncodeToString([]byte(secret)),
		"base64, at 1": base64.RawURLEncoding.EncodeToString([]byte("-" + secret + "-")),
		"hexadecimal":  "736576656e20746964657320616e6420",
		"in a URL":     "https://x/?seven+tides+and+a+lantern",
		"a long, base64": base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x",
			1000) + secret + strings.Repeat("y", 1000))),
	} {
		if Trace(text, secret) == "" {
			t.Errorf("%s: not found in %q", name, text[:min(len(text), 80)])
		}
	}
	if got := Trace("the tides are seven, and the lantern is lit", secret); got != "" {
		t.Errorf("found %q where nothing of it is", got)
	}
}
