package describe

import (
	"errors"
	"fmt"
	"path/filepath"

	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/strict"
)

// An Error says what is wrong with a description, where, and what was perhaps meant.
type Error = strict.Error

// Parse reads a description strictly: a word that the language does not know is an error.
// Every failure is an *[Error].
func Parse(text []byte) (*Description, error) {
	if len(text) > MaxBytes {
		return nil, &Error{Message: fmt.Sprintf("larger than %d bytes, so it is no description", MaxBytes)}
	}
	d := &Description{}
	if err := strict.Decode(text, d); err != nil {
		return nil, err
	}
	if err := d.check(); err != nil {
		var wrong *Error
		if errors.As(err, &wrong) && wrong.Line == 0 {
			wrong.Line = strict.LineOf(text, wrong.Place)
		}
		return nil, err
	}
	return d, nil
}

// ReadFile reads one description, and its text. A failure of the language is an *[Error].
func ReadFile(path string) (*Description, []byte, error) {
	text, err := regular.Read(filepath.Clean(path), MaxBytes)
	if errors.Is(err, regular.ErrTooLarge) {
		return nil, nil, &Error{File: path, Message: fmt.Sprintf("larger than %d bytes, so it is no description",
			MaxBytes)}
	}
	if err != nil {
		return nil, nil, err
	}
	d, err := Parse(text)
	var wrong *Error
	if errors.As(err, &wrong) {
		wrong.File = path
	}
	return d, text, err
}
