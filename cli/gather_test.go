package cli

import (
	"io"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/gather"
)

// endless is a text that never ends.
type endless struct{}

func (endless) Read(into []byte) (int, error) {
	for i := range into {
		into[i] = 'x'
	}
	return len(into), nil
}

// TestReportsAreBounded: a report without end is one that is too large, and so is no other; nothing is an empty one.
func TestReportsAreBounded(t *testing.T) {
	t.Parallel()
	whole := `{"schema":"unicrux.audit/1","machine":{"name":"driftwood"}}` + "\n"
	for _, row := range []struct {
		from     io.Reader
		machines int
		why      string
	}{
		{io.MultiReader(strings.NewReader(whole+`{"schema":"`), endless{}), 1, "too large"},
		{strings.NewReader(""), 0, "empty"}, {strings.NewReader(whole + strings.ReplaceAll(whole, "wood", "")), 2, ""},
	} {
		g := gather.New(gather.Options{Now: time.Now()})
		addReports(g, "reports", row.from)
		got := g.Done()
		why := ""
		for _, u := range got.Unread {
			why += u.Why
		}
		if len(got.Machines) != row.machines || (why == "") != (row.why == "") || !strings.Contains(why, row.why) {
			t.Errorf("%d machines, %q: want %q", len(got.Machines), why, row.why)
		}
	}
}
