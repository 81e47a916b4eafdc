package acceptance

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"anchorage.example/unicrux/core/causes"
)

// A performance is what became of a scene.
type performance struct {
	code, by, named string
	took            time.Duration
	mended          string
}

// What can become of a broken way.
const (
	mended = "mended" // the mend was done, and the real client succeeds
	others = "told"   // it is told who has to do what

	noSceneYet = "not mended" // it should have been
)

// gallery is what "make scenes" shows.
var gallery struct {
	sync.Mutex
	list []*performance
}

// performed notes which code a check named in a scene of another, or of the same.
func (p *person) performed(code string, c checked) *performance {
	named := "open"
	if c.Crux != nil {
		named = c.Crux.Code
	}
	done := &performance{code: code, by: c.Question.Transport, named: named, took: p.took}
	gallery.Lock()
	defer gallery.Unlock()
	gallery.list = append(gallery.list, done)
	return done
}

// showGallery writes the report, in the order of the catalogue.
func showGallery(file string) error {
	var b strings.Builder
	codes := causes.Codes()
	place := func(p *performance) int {
		return slices.IndexFunc(codes, func(c causes.Code) bool { return c.String() == p.code })
	}
	slices.SortStableFunc(gallery.list,
		func(a, b *performance) int { return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(a.by, b.by)) })
	first, whole, seen := 0, 0, map[string]bool{}
	for _, done := range gallery.list {
		named := "named"
		if seen[done.code] = true; done.named == done.code {
			first++
		} else {
			named = "NOT NAMED: " + done.named
		}
		if done.mended == mended {
			whole++
		}
		fmt.Fprintf(&b, "%-24s %-6s %-10s %-10s %7d ms\n", done.code, done.by, named, done.mended,
			done.took.Milliseconds())
	}
	fmt.Fprintf(&b, "\n%d scenes of %d codes: %d named at the first place, %d mended and open.\n", len(gallery.list),
		len(seen), first, whole)
	return os.WriteFile(file, []byte(b.String()), 0o600)
}
