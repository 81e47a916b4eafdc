package render

import (
	"slices"
	"strings"

	"anchorage.example/unicrux/core/untrusted"
)

// colourCodes are those of our own colours, and the end of one.
func colourCodes() []string {
	codes := []string{"0"}
	for _, t := range []tone{teal, ochre, rose, grey, bold} {
		codes = append(codes, t.rgb, t.c256, t.c16)
	}
	return codes
}

// Shown is a text as it may go to a terminal: of all that steers one, line ends, tabs and our own
// colours are left. Names and words from elsewhere are cleaned where they are put into a text; what
// was overlooked there ends here.
func Shown(text string) string {
	if !strings.ContainsFunc(text, steersBeyondLines) {
		return text
	}
	var b strings.Builder
	for text != "" {
		if code, rest, found := cutColour(text); found {
			b.WriteString("\x1b[" + code + "m")
			text = rest
			continue
		}
		r, size := firstRune(text)
		if !steersBeyondLines(r) {
			b.WriteString(text[:size])
		}
		text = text[size:]
	}
	return b.String()
}

func steersBeyondLines(r rune) bool { return r != '\n' && r != '\t' && untrusted.Steers(r) }

func firstRune(text string) (r rune, size int) {
	for i, c := range text {
		if i > 0 {
			return r, i
		}
		r = c
	}
	return r, len(text)
}

// cutColour takes one of our own colours from the front of a text.
func cutColour(text string) (code, rest string, found bool) {
	inside, found := strings.CutPrefix(text, "\x1b[")
	if !found {
		return "", text, false
	}
	code, rest, found = strings.Cut(inside, "m")
	return code, rest, found && slices.Contains(colourCodes(), code)
}
