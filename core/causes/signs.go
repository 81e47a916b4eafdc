package causes

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"anchorage.example/unicrux/core/lazyregexp"
)

// denied is how the ssh client says that no key opened the door, for whatever reason.
const denied = `permission denied \([^)]*publickey`

// bare is all that git says where ssh and the host say nothing.
const bare = `\A(fatal: could not read from remote repository\.|please make sure you have the correct access rights|and the repository exists\.|\s)+\z`

// forms keeps those that were read. They are read when they are wanted: most runs of the program
// want none, and git waits for some.
var forms sync.Map

func formed(form string) *regexp.Regexp {
	if found, ok := forms.Load(form); ok {
		return found.(*regexp.Regexp)
	}
	read := regexp.MustCompile("(?im)" + form)
	forms.Store(form, read)
	return read
}

// words are a long text in which many forms are looked for.
type words struct{ text, lower string }

func newWords(text string) words { return words{text, strings.ToLower(text)} }

// needed keeps what [lazyregexp.Needs] says of forms.
var needed sync.Map

// find returns where a form begins and ends in the words; nil for nowhere.
func (w words) find(sign string) []int {
	list, ok := needed.Load(sign)
	if !ok {
		list = lazyregexp.Needs(sign)
		needed.Store(sign, list)
	}
	may := list.([]string)
	if len(may) > 0 && !slices.ContainsFunc(may, func(word string) bool { return strings.Contains(w.lower, word) }) {
		return nil
	}
	return formed(sign).FindStringIndex(w.text)
}

// Says reports whether words have a form of RE2, in which case makes no difference. Forms are read once.
func Says(words, form string) bool { return form != "" && formed(form).MatchString(words) }
