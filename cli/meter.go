package cli

import (
	"fmt"
	"io"
	"os"
	"time"

	"golang.org/x/term"
)

// Anything that takes longer than patience shows what it is doing.
const (
	patience    = time.Second
	meterPause  = 100 * time.Millisecond // between two looks on a terminal
	loggerPause = 10 * time.Second       // and in a log
)

// A meter says on stderr what goes on and how far it is, once it takes long: in one line
// that is overwritten on a terminal, now and then elsewhere.
type meter struct {
	c        *console
	terminal bool
	next     time.Time
	shown    bool
}

func (c *console) meter() *meter {
	m := &meter{c: c, next: time.Now().Add(patience)}
	if file, ok := c.Err.(*os.File); ok && !c.plain && !c.dumb() {
		m.terminal = term.IsTerminal(int(file.Fd()))
	}
	return m
}

// tell shows words, if it is time to.
func (m *meter) tell(words func() string) {
	now := time.Now()
	if m.c.quiet || now.Before(m.next) {
		return
	}
	if !m.terminal {
		m.next = now.Add(loggerPause)
		_, _ = fmt.Fprintf(m.c.Err, "  %s\n", words())
		return
	}
	m.next, m.shown = now.Add(meterPause), true
	text := []rune(words())
	if width := m.c.ErrColumns; width > 6 && len(text) > width-4 {
		text = append(text[:width-5], '…')
	}
	_, _ = fmt.Fprintf(m.c.Err, "\r\x1b[K  %s", string(text))
}

// end takes the line away.
func (m *meter) end() {
	if m.shown {
		_, _ = io.WriteString(m.c.Err, "\r\x1b[K")
	}
}

// while runs work and shows words, with the seconds that it takes.
func (m *meter) while(words string, work func() error) error {
	done := make(chan error, 1)
	start := time.Now()
	go func() { done <- work() }()
	ticker := time.NewTicker(meterPause)
	defer ticker.Stop()
	defer m.end()
	for {
		select {
		case err := <-done:
			return err
		case <-ticker.C:
			m.tell(func() string { return fmt.Sprintf("%s (%d s)", words, int(time.Since(start).Seconds())) })
		}
	}
}
