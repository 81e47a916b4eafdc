package cli

import (
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/term"

	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/waiting"
)

// A waiter shows on a terminal for whom the command waits, once that takes long, in one line that goes again. It has
// places within places: the innermost is shown.
type waiter struct {
	c      *console
	mu     sync.Mutex
	places []*waitedFor
	held   bool // a question is on the terminal
	stop   chan struct{}
}

// A waitedFor is one place where the command waits.
type waitedFor struct {
	w           *waiter
	host, stage string
	since       time.Time
	line        *meter
}

// shows reports whether there is a terminal to show it on.
func (c *console) shows() bool {
	file, ok := c.Err.(*os.File)
	return ok && !c.plain && !c.quiet && !c.dumb() && term.IsTerminal(int(file.Fd()))
}

// begin is a [waiting.Starter].
func (w *waiter) begin(host string) waiting.Place {
	w.mu.Lock()
	defer w.mu.Unlock()
	p := &waitedFor{w: w, host: untrusted.Clean(host), since: time.Now(), line: w.c.meter()}
	w.places = append(w.places, p)
	if len(w.places) == 1 {
		w.stop = make(chan struct{})
		go w.watch(w.stop)
	}
	return p
}

func (p *waitedFor) At(stage string) {
	p.w.mu.Lock()
	defer p.w.mu.Unlock()
	p.stage = stage
}

// Over takes the line away.
func (p *waitedFor) Over() {
	w := p.w
	w.mu.Lock()
	defer w.mu.Unlock()
	p.line.end()
	for i, other := range w.places {
		if other == p {
			w.places = append(w.places[:i], w.places[i+1:]...)
			break
		}
	}
	if len(w.places) == 0 && w.stop != nil {
		close(w.stop)
		w.stop = nil
	}
}

// watch shows the innermost place from time to time.
func (w *waiter) watch(stop <-chan struct{}) {
	ticker := time.NewTicker(meterPause)
	defer ticker.Stop()
	for {
		select {
		case <-stop:
			return
		case <-ticker.C:
			w.show()
		}
	}
}

func (w *waiter) show() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.held || len(w.places) == 0 {
		return
	}
	p := w.places[len(w.places)-1]
	p.line.tell(func() string { return p.words(time.Since(p.since)) })
}

// words are the line after some time.
func (p *waitedFor) words(after time.Duration) string {
	at := fmt.Sprintf("%d s", int(after.Seconds()))
	if p.stage != "" {
		at = p.stage + ", " + at
	}
	return "waiting for " + p.host + "… (" + at + ")"
}

// hold takes the line away for something else on the terminal; release lets it come back. A nil waiter has none.
func (w *waiter) hold() (release func()) {
	if w == nil {
		return func() {}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.places {
		p.line.end()
	}
	before := w.held
	w.held = true
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.held = before
	}
}
