package causes

import (
	_ "embed"
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"

	"anchorage.example/unicrux/core/lazyregexp"
)

//go:embed phrases.txt
var phraseText string

// A phrase is a message of git's, of hg's or of the system in another language.
type phrase struct {
	english, other string
	rare           string // the longest part of other that stands for nothing else
}

// phrases are read when the first text is to be explained.
var phrases = sync.OnceValue(func() []phrase {
	var list []phrase
	english := ""
	for line := range strings.Lines(phraseText) {
		line = strings.TrimSuffix(line, "\n")
		other, is := strings.CutPrefix(line, " ")
		switch {
		case strings.HasPrefix(line, "#"):
		case !is:
			english = line
		default:
			list = append(list, phrase{english, other, longest(places().Split(other, -1))})
		}
	}
	return list
})

// places are where a message has a value (printf(3)).
var places = lazyregexp.Late(`%(\d+\$)?(\.\d+)?[sdl]+`)

func longest(parts []string) string {
	best := ""
	for _, part := range parts {
		if len(part) > len(best) {
			best = part
		}
	}
	return best
}

// shortest is how much of a phrase, in characters, must be found before it counts: less would
// stand in texts of any kind.
const shortest = 4

// english puts what is known of a line in other languages into English. The longest phrase is
// taken first, of several messages in one line each.
func english(line string) string {
	lead := leads().FindString(line)
	return lead + englishBehind(line[len(lead):])
}

// leads are the words before a message that say how grave it is, or who says it: no message begins with them, though
// its first value could be anything.
var leads = lazyregexp.Late(`^((fatal|error|warning|remote|hint|abort|ssh): )*`)

func englishBehind(line string) string {
	for range 3 {
		var best phrase
		for _, p := range phrases() {
			if len(p.other) > len(best.other) && utf8.RuneCountInString(p.rare) >= shortest &&
				strings.Contains(line, p.rare) && p.form().MatchString(line) {
				best = p
			}
		}
		if best.other == "" {
			return line
		}
		line = best.put(line)
	}
	return line
}

// form is what a line with the phrase looks like.
func (p phrase) form() *regexp.Regexp {
	parts := places().Split(p.other, -1)
	for i, part := range parts {
		parts[i] = regexp.QuoteMeta(part)
	}
	form := strings.Join(parts[:len(parts)-1], "(.*?)")
	if len(parts) > 1 {
		form += "(.*?)"
	}
	form += parts[len(parts)-1]
	if strings.HasSuffix(form, "(.*?)") {
		form = strings.TrimSuffix(form, "(.*?)") + "(.*)$"
	}
	return regexp.MustCompile(form)
}

// put replaces the phrase in a line by the English one, with the same values. Where a language
// has another order of them, the numbers in its places tell it.
func (p phrase) put(line string) string {
	at := p.form().FindStringSubmatchIndex(line)
	if at == nil {
		return line
	}
	order := places().FindAllStringSubmatch(p.other, -1)
	values := make([]string, len(order)+1)
	for i, place := range order {
		number := i + 1
		if place[1] != "" {
			number = min(int(place[1][0]-'0'), len(order))
		}
		values[number] = line[at[2+2*i]:at[3+2*i]]
	}
	i := 0
	english := places().ReplaceAllStringFunc(p.english, func(string) string {
		i++
		if i < len(values) {
			return values[i]
		}
		return ""
	})
	return line[:at[0]] + english + line[at[1]:]
}
