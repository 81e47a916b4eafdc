// Package document has the types of the JSON documents that --json prints: the contract with scripts. What a field
// means is said here, once; the schemas in docs/schemas are made from these types and their comments.
//
// Every document begins with its schema. Names are words in lower case joined by underscores; one name has one type in
// all documents. Times are RFC 3339 in UTC, paths are absolute, lists are never null, secrets are never in it. What is
// not known, or does not apply, is null.
package document

import (
	"slices"
	"time"
)

// A Path is an absolute path of a file or folder here.
type Path string

// All has an empty document of each schema, by its name without “unicrux.” and version.
func All() map[string]any {
	return map[string]any{
		"accounts": Accounts{}, "adoption": Adoption{}, "agent-key": AgentKey{}, "apply": Apply{}, "audit": Audit{},
		"brief": Brief{},
		"card":  Card{}, "changes": Changes{},
		"check": Check{}, "chest": Chest{}, "comparison": Comparison{}, "demo": Demo{}, "done": Done{},
		"draft": Draft{}, "error": Error{}, "explain": Explain{}, "facts": Facts{}, "faults": Faults{},
		"found": Found{}, "gather": Gather{},
		"help": Help{}, "holder": Holder{}, "host": HostAlone{}, "hosts": Hosts{}, "key": KeyAlone{}, "keys": Keys{},
		"look": Look{}, "plan": Plan{}, "practice": Practice{}, "ready": Ready{}, "registration": Registration{},
		"remotes": Remotes{}, "renewal": Renewal{}, "repositories": Repositories{}, "repository": RepositoryAlone{},
		"retirement": Retirement{}, "set": Set{}, "settings": Settings{}, "token": TokenAlone{},
		"token-test": TokenTest{}, "tokens": Tokens{}, "trials": Trials{}, "trust": Trust{}, "undo": Undo{},
		"undo-all": UndoAll{}, "version": Version{},
	}
}

// Schema is the first field of the document of a name: “unicrux.NAME/1”.
func Schema(name string) string { return "unicrux." + name + "/1" }

// Text is a text that may be unknown: nil for an empty one.
func Text[T ~string](text T) *T {
	if text == "" {
		return nil
	}
	return &text
}

// Time is a time in UTC, to the second: nil for the zero time.
func Time(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	utc := t.UTC().Truncate(time.Second)
	return &utc
}

// Number is the number of a change: nil for 0, which no change has.
func Number(change int) *int {
	if change == 0 {
		return nil
	}
	return &change
}

// List is a list that is never null.
func List[T any](list []T) []T { return append([]T{}, list...) }

// Map is a list of what is made of each entry of another, never null.
func Map[From, To any](list []From, each func(From) To) []To {
	made := slices.Grow([]To{}, len(list))
	for _, entry := range list {
		made = append(made, each(entry))
	}
	return made
}

// Milliseconds is a duration with three digits behind the point.
func Milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// An Error is what a command prints that failed.
type Error struct {
	Schema string `json:"schema"`
	// Code names the failure, and never changes its meaning.
	Code string `json:"code"`
	// Message says what failed, on what and why.
	Message string `json:"message"`
	// Advice says what to do; it is empty where there is nothing to say.
	Advice string `json:"advice"`
	// Exit is the exit code of the command.
	Exit int `json:"exit" jsonschema:"minimum=1,maximum=5"`
	// ChangeNumbers are the changes that the command made before it failed.
	ChangeNumbers []int `json:"change_numbers"`
}

// A Done is what a command prints that has nothing else to show.
type Done struct {
	Schema  string `json:"schema"`
	Summary string `json:"summary"`
	// Change is the number by which undo takes it back; null where nothing was changed.
	Change *int `json:"change" jsonschema:"nullable"`
	// Until is when it ends by itself; null where it does not.
	Until *time.Time `json:"until" jsonschema:"nullable"`
}

// A Version says which program this is.
type Version struct {
	Schema  string `json:"schema"`
	Version string `json:"version"`
	// Commit is null where the build does not know it.
	Commit *string `json:"commit" jsonschema:"nullable"`
	// Go is the version of Go that built it.
	Go       string `json:"go"`
	Platform string `json:"platform"`
}

// A Help is the page of a command or of a topic.
type Help struct {
	Schema string `json:"schema"`
	// Use is the command line; it is empty for a topic.
	Use      string      `json:"use"`
	About    string      `json:"about"`
	Examples []string    `json:"examples"`
	Groups   []HelpGroup `json:"groups"`
}

// A HelpGroup is a list under a head.
type HelpGroup struct {
	Head string    `json:"head"`
	Rows []HelpRow `json:"rows"`
}

// A HelpRow is a command, an option or another name, and what it is about.
type HelpRow struct {
	Name  string `json:"name"`
	About string `json:"about"`
}
