package cli

import (
	"cmp"
	"io"
	"strings"

	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/render"
)

// A console is where a run reads and writes, and how much it says.
type console struct {
	IO
	json, plain, quiet, verbose bool
	color                       string // auto, always or never; empty for auto
	wait                        *waiter
}

// say prints a result as it comes, unless a document is wanted at the end.
func (c *console) say(text string) {
	if !c.json && !c.quiet {
		_ = c.print(text) // whoever reads it may have gone
	}
}

// progress says something on stderr about what goes on.
func (c *console) progress(text string) {
	if !c.quiet {
		c.tell(c.errStyle().Sentences(text))
	}
}

// progressText says something on stderr that is laid out already.
func (c *console) progressText(text string) {
	if !c.quiet {
		c.tell(text)
	}
}

// style is what the output can show, errStyle what the error output can: either may be a terminal, and the other none.
func (c *console) style() render.Style    { return c.styleFor(c.Columns) }
func (c *console) errStyle() render.Style { return c.styleFor(c.ErrColumns) }

// dumb reports whether the terminal knows no control sequences.
func (c *console) dumb() bool { return c.getenv("TERM") == "dumb" }

func (c *console) styleFor(columns int) render.Style {
	s, kind := render.Style{Width: columns, Detail: c.verbose}, c.getenv("TERM")
	if c.plain || c.color != "always" && (columns == 0 || c.dumb()) {
		return s
	}
	locale := cmp.Or(c.getenv("LC_ALL"), c.getenv("LC_CTYPE"), c.getenv("LANG")) // locale(7)
	s.Lines = strings.Contains(strings.ToUpper(locale), "UTF")
	switch {
	case c.color == "never", c.color != "always" && c.getenv("NO_COLOR") != "":
		s.Depth = render.Monochrome
	case c.getenv("COLORTERM") == "truecolor", c.getenv("COLORTERM") == "24bit":
		s.Depth = render.TrueColour
	case strings.Contains(kind, "256"):
		s.Depth = render.Colours256
	default:
		s.Depth = render.Colours16
	}
	return s
}

func (c *console) getenv(name string) string {
	who := person.Person{Environ: c.Environ}
	return who.Getenv(name)
}

// show prints a result: the document when JSON was asked for, else the text.
func (c *console) show(text string, document any) error {
	if c.json {
		text = render.JSON(document)
	}
	return c.print(text)
}

// print and tell write to the output and to the error output. Whatever others put into the text (names,
// banners, paths) steers no terminal.
func (c *console) print(text string) error {
	defer c.wait.hold()()
	_, err := io.WriteString(c.Out, render.Shown(text))
	return err
}

func (c *console) tell(text string) {
	defer c.wait.hold()()
	_, _ = io.WriteString(c.Err, render.Shown(text))
}
