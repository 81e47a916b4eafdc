package chest

import (
	"encoding/json"
	"errors"
	"testing"
)

// TestFormat: a file names the format, and nothing else is taken for one.
func TestFormat(t *testing.T) {
	t.Parallel()
	text, err := json.Marshal(version)
	if err != nil || string(text) != `"unicrux-chest/1"` {
		t.Errorf("%s, %v", text, err)
	}
	for text, want := range map[string]format{`"unicrux-chest/1"`: 1, `"unicrux-chest/27"`: 27, `"unicrux-chest/0"`: 0,
		`"unicrux-chest/"`: 0, `"unicrux-chest/1 "`: 0, `"unicrux-change/1"`: 0, `1`: 0, `{}`: 0} {
		var got format
		if err := json.Unmarshal([]byte(text), &got); got != want || (err != nil) != (want == 0) {
			t.Errorf("%s: %d, %v", text, got, err)
		}
	}
	for _, row := range []struct {
		f      format
		summed bool
		want   error
	}{{version, true, nil}, {version + 1, true, ErrNewer}, {0, true, ErrOlder}, {0, false, ErrDamaged}} {
		if err := row.f.of(row.summed); !errors.Is(err, row.want) || row.want == nil && err != nil {
			t.Errorf("%+v: %v", row, err)
		}
	}
}
