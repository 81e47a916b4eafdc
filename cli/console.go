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
		c.tell(c.style().Sentences(text))
	}
}

// progressText says something on stderr that is laid out already.
func (c *console) progressText(text string) {
	if !c.quiet {
		c.tell(text)
	}
}

// style is what the terminal can show.
func (c *console) style() render.Style {
	s := render.Style{Width: c.Columns, Detail: c.verbose}
	kind := c.getenv("TERM")
	if c.plain || c.color != "always" && (c.Columns == 0 || kind == "dumb") {
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
	_, err := io.WriteString(c.Out, render.Shown(text))
	return err
}

func (c *console) tell(text string) {
	if c.ErrColumns == 0 && c.color != "always" { // the output decides for itself alone
		text = render.Unpainted(text)
	}
	_, _ = io.WriteString(c.Err, render.Shown(text))
}
