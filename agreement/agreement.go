// Package agreement tells how often we agree with the real clients: tests that compare us with them say here
// how many cases they tried, and write the programs that they let run. Only tests import it.
package agreement

import (
	"fmt"
	"os"
	"strconv"
	"sync"
	"testing"
)

// A Tally counts the cases of one class, such as how git finds its proxy.
type Tally struct {
	t     testing.TB
	class string

	mu           sync.Mutex
	cases, apart int
}

// Of begins a tally, which is written when the test ends: a line in the file that UNICRUX_AGREE names, if there is
// one (make agree).
func Of(t testing.TB, class string) *Tally {
	tally := &Tally{t: t, class: class}
	t.Cleanup(tally.write)
	return tally
}

// Rounds is how many generated cases are tried: n, or as many as UNICRUX_ROUNDS says.
func Rounds(n int) int {
	if most, err := strconv.Atoi(os.Getenv("UNICRUX_ROUNDS")); err == nil {
		return most
	}
	return n
}

// Case counts one case; agree is false where we and the real client do not say the same, of which how tells more.
func (y *Tally) Case(agree bool, how string, args ...any) {
	y.t.Helper()
	y.mu.Lock()
	defer y.mu.Unlock()
	y.cases++
	if !agree {
		y.apart++
		y.t.Errorf(how, args...)
	}
}

func (y *Tally) write() {
	file := os.Getenv("UNICRUX_AGREE")
	if file == "" {
		return
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		y.t.Error(err)
		return
	}
	fmt.Fprintf(f, "%-46s %6d cases %5d disagreements\n", y.class, y.cases, y.apart)
	if err := f.Close(); err != nil {
		y.t.Error(err)
	}
}
