// Package fault makes the errors that callers and scripts rely on. Each has a code, which never changes its meaning,
// and a class; both are with the error where it is made, so no list elsewhere has to know it.
package fault

import "errors"

// A Class says whose fault it is, and so what becomes of the command.
type Class int

// The classes.
const (
	Failed  Class = iota // a file, a device or the program itself failed
	Refused              // a host, or a rule, refused
	Misused              // what was given is wrong
	Unasked              // somebody had to be asked, and could not be
)

// A Fault is such an error. It is compared by identity, with [errors.Is].
type Fault struct {
	Code  string // in lower case, with hyphens
	Class Class

	text  string
	under error
}

// New makes one. text has no capital and no full stop, as of all errors.
func New(code string, class Class, text string) error {
	return &Fault{Code: code, Class: class, text: text}
}

// Under makes one that is a case of another error, which it wraps.
func Under(under error, code string, class Class, text string) error {
	return &Fault{Code: code, Class: class, text: text, under: under}
}

func (f *Fault) Error() string { return f.text }

// Unwrap returns what it is a case of; nil for none.
func (f *Fault) Unwrap() error { return f.under }

// Of is the first fault in the tree of an error; nil where there is none.
func Of(err error) *Fault {
	var f *Fault
	if errors.As(err, &f) {
		return f
	}
	return nil
}
