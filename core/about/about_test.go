package about

import (
	"regexp"
	"testing"
)

// TestText: everything that a report of an error needs, on one line.
func TestText(t *testing.T) {
	t.Parallel()
	form := regexp.MustCompile(`^unicrux \d+\.\d+\.\d+\S*, commit (unknown|[0-9a-f]+), go\S+, [a-z]+/[a-z0-9]+\n$`)
	if !form.MatchString(Text()) {
		t.Errorf("%q", Text())
	}
}
