package hostapi

import (
	"runtime"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

// TestHugeAnswersAreRefused reads an answer of four million bytes with as many values as fit: it is
// refused before it takes more memory than a page of a list may.
func TestHugeAnswersAreRefused(t *testing.T) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := decode([]byte("[" + strings.Repeat("1,", maxAnswer/2-2) + "1]"))
	runtime.ReadMemStats(&after)
	if err == nil || !strings.Contains(err.Error(), "too many values") {
		t.Errorf("%v", err)
	}
	if used := after.TotalAlloc - before.TotalAlloc; used > 120<<20 {
		t.Errorf("it took %d MB", used>>20)
	}
}

// TestDeepAnswers looks everywhere in an answer that is as deep and as large as one may be.
func TestDeepAnswers(t *testing.T) {
	t.Parallel()
	text := strings.Repeat(`{"a":[`, maxDepth/2-1) + strings.Repeat("1,",
		20_000) + "1" + strings.Repeat("]}", maxDepth/2-1)
	node, err := decode([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	if found := describe.Follow(node, "$..*"); len(found) < 20_000 {
		t.Errorf("%d found", len(found))
	}
}
