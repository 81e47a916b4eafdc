package cli

import (
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
)

// A word is the value of an option: the help calls it what it is, and where only some words are taken, no other is.
type word[T ~string] struct {
	to      *T
	is      string
	choices []T
	start   T // what holds without the option
}

// named is a value that the help calls by a name in capitals: FILE, HOST, WHEN.
func named[T ~string](to *T, is string) pflag.Value { return &word[T]{to: to, is: is, start: *to} }

// oneOf is a value that is one of a few words.
func oneOf[T ~string](to *T, choices ...T) pflag.Value {
	return &word[T]{to: to, is: join(choices, "|", "|"), choices: choices, start: *to}
}

func (w *word[T]) String() string { return string(*w.to) }
func (w *word[T]) Type() string   { return w.is }

// offered are the words that a shell completes; nil where any text will do.
func (w *word[T]) offered() []string {
	var words []string
	for _, choice := range w.choices {
		words = append(words, string(choice))
	}
	return words
}

func (w *word[T]) Set(text string) error {
	given := T(text)
	if w.choices != nil && given != w.start && !slices.Contains(w.choices, given) {
		return acceptsError(join(w.choices, ", ", " or "))
	}
	*w.to = given
	return nil
}

// A wordList is the value of an option that may be given several times; each adds to those before it.
type wordList struct {
	to      *[]string
	is      string
	choices []string // nil: any text, as it stands. Else commas may stand between several of them
}

func (l *wordList) String() string { return strings.Join(*l.to, ",") }
func (l *wordList) Type() string   { return l.is }

func (l *wordList) offered() []string { return l.choices }

func (l *wordList) Set(text string) error {
	given := []string{text}
	if l.choices != nil {
		given = strings.Split(text, ",")
	}
	for _, one := range given {
		if l.choices != nil && !slices.Contains(l.choices, one) {
			return acceptsError(join(l.choices, ", ", " or "))
		}
	}
	*l.to = append(*l.to, given...)
	return nil
}

// A span is the value of an option that is a time.
type span struct{ to *time.Duration }

func (s span) Type() string { return "TIME" }

// String leaves out the zeros that the standard library writes: 10m, and not 10m0s.
func (s span) String() string {
	text := s.to.String()
	if short, found := strings.CutSuffix(text, "m0s"); found {
		text = short + "m"
	}
	if short, found := strings.CutSuffix(text, "h0m"); found {
		text = short + "h"
	}
	return text
}

func (s span) Set(text string) error {
	given, err := time.ParseDuration(text)
	if err != nil || given < 0 {
		return acceptsError("a time such as 45s, 10m or 8h")
	}
	*s.to = given
	return nil
}

// lasts is an option that is a time, with what holds without it.
func lasts(flags *pflag.FlagSet, to *time.Duration, name string, otherwise time.Duration, about string) {
	*to = otherwise
	flags.Var(span{to}, name, about)
}

// offered are the words that an option's value can be; nil where any text will do.
func offered(f *pflag.Flag) []string {
	if choice, ok := f.Value.(interface{ offered() []string }); ok {
		return choice.offered()
	}
	return nil
}

// nearestOf asks, behind a sentence, whether the nearest of some words was meant; it is empty where none is near.
func nearestOf(word string, candidates []string) string {
	if near := suggest.Nearest(word, candidates); near != "" {
		return ". Did you mean " + near + "?"
	}
	return ""
}

// acceptsError says which values an option takes.
type acceptsError string

func (a acceptsError) Error() string { return "it accepts " + string(a) }

// badOption says in our words what is wrong with an option.
func badOption(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if errors.As(err, &unknown) && unknown.GetSpecifiedShortnames() == "" {
		name := untrusted.Clean(unknown.GetSpecifiedName())
		if near := nearestOption(c, name); near != "" {
			return usage("%s has no option --%s. Did you mean %s?", c.CommandPath(), name, near)
		}
		return usage("%s has no option --%s. Its options: %s --help", c.CommandPath(), name, c.CommandPath())
	}
	var bare *pflag.ValueRequiredError
	if errors.As(err, &bare) && bare.GetFlag() != nil {
		name, _ := pflag.UnquoteUsage(bare.GetFlag())
		return usage("--%s needs a value: --%s %s", bare.GetFlag().Name, bare.GetFlag().Name, name)
	}
	var invalid *pflag.InvalidValueError
	if !errors.As(err, &invalid) {
		return usage("%s", err)
	}
	accepts := acceptsError("a whole number")
	if invalid.GetFlag().Value.Type() == "bool" {
		accepts = "true or false"
	}
	_ = errors.As(err, &accepts) // of the other values, which are ours
	return usage("--%s accepts %s, not %q%s", invalid.GetFlag().Name, string(accepts), invalid.GetValue(),
		nearestOf(invalid.GetValue(), offered(invalid.GetFlag())))
}

// join puts words behind each other, with another separator before the last.
func join[T ~string](words []T, between, last string) string {
	var b strings.Builder
	for i, w := range words {
		switch {
		case i == 0:
		case i == len(words)-1:
			b.WriteString(last)
		default:
			b.WriteString(between)
		}
		b.WriteString(string(w))
	}
	return b.String()
}
