package render

import (
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// A HolderView is the holder with what the reader needs to know where it is.
type HolderView struct {
	Runs   bool
	Socket string
	PID    int // 0 when it is not known
	Tilde  func(string) string
	Now    time.Time

	ChestUntil *time.Time // until when the chest is held open; nil when it is not
	ChestPID   int        // of the process that does; 0 when it is not known
}

// ChestHeld says until when the chest is held open, if it is.
func ChestHeld(s Style, v HolderView) string {
	if v.ChestUntil == nil {
		return ""
	}
	return s.Sentences("The chest is open until " + v.ChestUntil.Local().Format("15:04") + ".")
}

// Holder writes what the holder holds, and until when.
func Holder(s Style, v HolderView, holdings []agent.Holding) string {
	if len(holdings) == 0 {
		return s.Sentences("The holder runs and holds nothing. It exits soon unless a key is loaded.") + ChestHeld(s, v)
	}
	var rows [][]string
	for _, h := range holdings {
		kind, line := "unknown", ""
		if key, err := ssh.ParsePublicKey(h.Blob); err == nil {
			kind, line = sshkey.Kind(key), s.tideLine(sshkey.Eye(key))
		}
		rows = append(rows, []string{heldName(h.Comment, v.Tilde), kind, line, until(h.Ends, v.Now), heldWith(h)})
	}
	return s.Sentences("The holder keeps "+count(len(rows), "key", "keys")+" unlocked.") + "\n" +
		s.table([]string{"key", "type", "tide line", "forgotten", "used"}, rows) + "\n" + ChestHeld(s, v) +
		s.block(7, []row{{label: "socket", tone: grey, lines: []string{v.Tilde(v.Socket)}},
			{label: "process", tone: grey, lines: []string{strconv.Itoa(v.PID)}}})
}

// heldWith says how freely a key may be used.
func heldWith(h agent.Holding) string {
	switch {
	case h.Confirm:
		return "after asking you"
	case h.Limited:
		return "for some hosts only"
	}
	return "without asking"
}

// heldName is how a key in an agent is called: by its file, where the comment is one.
func heldName(comment string, tilde func(string) string) string {
	if comment = untrusted.Clean(comment); filepath.IsAbs(comment) {
		return tilde(comment)
	}
	return comment
}

// until says how far away a time is, and when.
func until(t, now time.Time) string {
	left := t.Sub(now)
	nearest := func(unit time.Duration) int { return int((left + unit/2) / unit) }
	clock := t.Local().Format("15:04")
	switch {
	case left < time.Minute:
		return fmt.Sprintf("in %s (%s)", count(max(0, int(left.Seconds())), "second", "seconds"), clock)
	case left < 2*time.Hour:
		return fmt.Sprintf("in %s (%s)", count(nearest(time.Minute), "minute", "minutes"), clock)
	case left < 48*time.Hour:
		return fmt.Sprintf("in %s (%s)", count(nearest(time.Hour), "hour", "hours"), clock)
	}
	return fmt.Sprintf("in %s (%s)", count(nearest(24*time.Hour), "day", "days"), t.Local().Format("2006-01-02"))
}

// HolderDocument makes the document of the holder.
func HolderDocument(v HolderView, holdings []agent.Holding) any {
	d := document.Holder{Schema: document.Schema("holder"), Runs: v.Runs, Socket: document.Path(v.Socket),
		OpenUntil: v.ChestUntil, Keys: document.Map(holdings, heldByUs)}
	if v.PID != 0 {
		d.PID = &v.PID
	}
	if v.ChestUntil != nil {
		d.OpenUntil = document.Time(*v.ChestUntil)
	}
	return d
}

func heldByUs(h agent.Holding) document.HeldKey {
	d := document.HeldKey{Comment: h.Comment, Until: document.Time(h.Ends), AsksFirst: &h.Confirm}
	if key, err := ssh.ParsePublicKey(h.Blob); err == nil {
		d.Fingerprint = sshkey.Fingerprint(key)
	}
	return d
}
