// Package workstation knows this computer and this person: where their files live,
// how a file is changed without ever being half written, and what was changed.
//
// [Here] describes the workstation; everything else takes that description as a
// value, so a test can be somebody else somewhere else. Whatever Unicrux writes goes
// through a [Batch], which records it.
package workstation
