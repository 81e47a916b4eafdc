package render

import (
	"fmt"
	"html"
	"strings"
)

// markup is text that a browser reads as it is meant. Everything else becomes markup by [text] alone, so whatever
// stands in a home or in a report stays text.
type markup string

// text is words as they are to be read.
func text(words string) markup { return markup(html.EscapeString(words)) }

func textf(format string, args ...any) markup { return text(fmt.Sprintf(format, args...)) }

// el is an element. name may be followed by classes: "td.mark.must".
func el(name string, inside ...markup) markup {
	name, classes, _ := strings.Cut(name, ".")
	open := "<" + name
	if classes != "" {
		open += ` class="` + html.EscapeString(strings.ReplaceAll(classes, ".", " ")) + `"`
	}
	return markup(open+">") + joinMarkup(inside...) + markup("</"+name+">")
}

func joinMarkup(parts ...markup) markup {
	var b strings.Builder
	for _, part := range parts {
		b.WriteString(string(part))
	}
	return markup(b.String())
}

// each makes markup of each thing in a list.
func each[T any](list []T, of func(T) markup) markup {
	parts := make([]markup, 0, len(list))
	for _, one := range list {
		parts = append(parts, of(one))
	}
	return joinMarkup(parts...)
}

// code is what somebody may copy.
func code(words string) markup {
	if words == "" {
		return ""
	}
	return el("code", text(words))
}

// tableOf is a table with its heads; nothing where it has no rows. Heads that end in "#" are of numbers, those that end
// in "·" of marks.
func tableOf(heads []string, rows [][]markup) markup {
	if len(rows) == 0 {
		return ""
	}
	classes := make([]string, len(heads))
	head := markup("")
	for i, name := range heads {
		switch {
		case strings.HasSuffix(name, "#"):
			classes[i] = ".n"
		case strings.HasSuffix(name, "·"):
			classes[i] = ".mark"
		}
		head += el("th"+classes[i], text(strings.TrimRight(name, "#·")))
	}
	body := each(rows, func(cells []markup) markup {
		row := markup("")
		for i, cell := range cells {
			row += el("td"+classes[i], cell)
		}
		return el("tr", row)
	})
	return el("div.scroll", el("table", el("thead", el("tr", head)), el("tbody", body)))
}

// picture is a drawing of a size in its own units, with words for those who do not see it.
func picture(width, height int, words string, shapes ...markup) markup {
	return markup(fmt.Sprintf(`<svg viewBox="0 0 %d %d" role="img" aria-label="%s">`, width, height,
		html.EscapeString(words))) + joinMarkup(shapes...) + "</svg>"
}

func stroke(class string, x1, y1, x2, y2 float64) markup {
	return markup(fmt.Sprintf(`<line class="%s" x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f"/>`, class, x1, y1, x2, y2))
}

func caption(x, y float64, anchor, words string) markup {
	return markup(fmt.Sprintf(`<text x="%.1f" y="%.1f" text-anchor="%s">%s</text>`, x, y, anchor,
		html.EscapeString(words)))
}

// A form is the outline of a mark in a picture, around a place.
type form func(x, y float64) string

func square(half float64) form {
	return func(x, y float64) string {
		return fmt.Sprintf("M%.1f %.1fh%.1fv%.1fh-%.1fz", x-half, y-half, 2*half, 2*half, 2*half)
	}
}

func disc(r float64) form {
	return func(x, y float64) string {
		return fmt.Sprintf("M%.1f %.1fa%.1f %.1f 0 1 0 %.1f 0a%.1f %.1f 0 1 0 -%.1f 0z", x-r, y, r, r, 2*r, r, r, 2*r)
	}
}

func triangle(half float64) form {
	return func(x, y float64) string {
		return fmt.Sprintf("M%.1f %.1fl%.1f %.1fh-%.1fz", x, y-half, half, 2*half, 2*half)
	}
}

// marks are many marks of one form and colour, as one path: there may be thousands.
func marks(class string, outline form, at [][2]float64) markup {
	if len(at) == 0 {
		return ""
	}
	var b strings.Builder
	for _, p := range at {
		b.WriteString(outline(p[0], p[1]))
	}
	return markup(fmt.Sprintf(`<path class="shape %s" d="%s"/>`, class, b.String()))
}

// legend explains the marks of a picture.
func legend(rows ...markup) markup { return el("div.key", rows...) }

func legendOf(class string, outline form, words string) markup {
	return el("span", picture(14, 14, "", marks(class, outline, [][2]float64{{7, 7}})), text(words))
}
