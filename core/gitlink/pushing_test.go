package gitlink

import (
	"bytes"
	"testing"
)

func TestIsPush(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]bool{
		"git push":                          true,
		"/usr/bin/git push origin main":     true,
		"git -C work -c a.b=c push --force": true,
		"git --no-pager --git-dir x push":   true,
		"git fetch":                         false,
		"git -C push fetch":                 false,
		"git":                               false,
		"git -C":                            false,
		"git-remote-https push":             false,
		"sh push":                           false,
		"":                                  false,
	} {
		if got := isPush(bytes.Split([]byte(line), []byte(" "))); got != want {
			t.Errorf("%q: %v", line, got)
		}
	}
}
