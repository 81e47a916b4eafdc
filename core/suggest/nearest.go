package suggest

import "strings"

// slips is how many letters of a name may be wrong before it is another one.
const slips = 2

// Nearest is the candidate that was perhaps meant by a word: the first with the fewest wrong letters, at most two and
// fewer than the word has, or else the only one that begins with the word. Empty where there is none, and where the
// word is one of them.
func Nearest(word string, candidates []string) string {
	lower := strings.ToLower(word)
	near, least, longer := "", min(slips+1, max(1, len(word))), []string{}
	for _, candidate := range candidates {
		if candidate == word || word == "" {
			return ""
		}
		if d := Distance(lower, strings.ToLower(candidate), least); d < least {
			near, least = candidate, d
		}
		if strings.HasPrefix(strings.ToLower(candidate), lower) {
			longer = append(longer, candidate)
		}
	}
	if near == "" && len(longer) == 1 {
		return longer[0]
	}
	return near
}

// An UnknownError says that nothing has a name, and what was perhaps meant by it.
type UnknownError struct {
	Name string
	Near string // empty where nothing is like it
	Err  error  // what is unknown
}

// Unknown makes an [UnknownError] for a name that is none of the candidates.
func Unknown(name string, err error, candidates []string) error {
	return &UnknownError{Name: name, Near: Nearest(name, candidates), Err: err}
}

func (e *UnknownError) Error() string { return e.Name + ": " + e.Err.Error() }

// Unwrap returns what is unknown.
func (e *UnknownError) Unwrap() error { return e.Err }
