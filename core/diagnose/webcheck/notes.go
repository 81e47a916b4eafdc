package webcheck

import (
	"slices"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/plainsecrets"
)

// Notes are what is worth knowing about an open way over HTTPS.
func Notes(t Travelled) []finding.Note {
	var notes []finding.Note
	for _, code := range t.noteCodes() {
		notes = append(notes, finding.NewNote(code, t.Address.Host))
	}
	return notes
}

func (t Travelled) noteCodes() []causes.Code {
	if t.Sent.Password.Empty() {
		return nil
	}
	if e, found := t.sentToken(); found {
		return t.tokenNotes(e)
	}
	if t.Hg != nil || slices.ContainsFunc(append(plainsecrets.InNetrc(t.Station),
		plainsecrets.InStore(t.Station, t.Config)...), func(s plainsecrets.Stray) bool {
		return s.Secret.Equal(t.Sent.Password)
	}) {
		return []causes.Code{causes.SecretInPlainFile}
	}
	return nil
}

// sentToken is the token in the chest that was sent.
func (t Travelled) sentToken() (chest.Entry, bool) {
	list, err := chest.Of(t.Station).At("https", allow.LowerHost(t.Base.Host))
	if err != nil {
		return chest.Entry{}, false
	}
	for _, e := range list {
		if kept, err := chest.Of(t.Station).Get(e); err == nil && kept.Token.Equal(t.Sent.Password) {
			return e, true
		}
	}
	return chest.Entry{}, false
}

func (t Travelled) tokenNotes(e chest.Entry) []causes.Code {
	var codes []causes.Code
	if e.EndsSoon(t.Station.Now()) {
		codes = append(codes, causes.TokenEndsSoon)
	}
	if e.Until.IsZero() && !e.Signed && !e.Proved.IsZero() && len(e.Scopes) > 0 { // who tells scopes tells the end
		codes = append(codes, causes.TokenNeverEnds)
	}
	if t.Host == nil || len(e.Purposes) == 0 || len(t.Host.Purposes) == 0 {
		return codes
	}
	var needed []string
	for _, purpose := range e.Purposes {
		needed = append(needed, t.Host.Purposes[purpose]...)
	}
	if slices.ContainsFunc(e.Scopes, func(s string) bool { return !slices.Contains(needed, s) }) {
		codes = append(codes, causes.TokenTooWide)
	}
	return codes
}
