package sshcheck

import (
	"context"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
)

// oldKey is how long a key may be in use before another one is advised.
const oldKey = 5 * 365 * 24 * time.Hour

// Notes are what is worth knowing about an open way.
func Notes(t Travelled) finding.Part {
	var part finding.Part
	note := func(code causes.Code) { part.Note(finding.NewNote(code, t.Address.Host)) }
	if value, _, set := t.Passage.Settings.First("forwardagent"); set && !strings.EqualFold(value, "no") {
		note(causes.AgentForwarded)
	} else if origin, wide := sshconfig.ForwardsToAll(t.Passage.Settings.Query); wide {
		note(causes.AgentForwardedEverywhere)
		part.Fact(causes.Settings, "forwardagent", "yes, to every host", t.Origin(origin))
	}
	if t.unpublished() {
		note(causes.HostKeyUnpublished)
	}
	if len(t.Passage.Settings.Unused()) > 0 {
		note(causes.SettingsUnused)
	}
	for _, code := range t.keyNotes() {
		note(code)
	}
	return part
}

// unpublished reports whether the description names keys of the host's, and the one that it shows is none of them. No
// question is asked for it.
func (t Travelled) unpublished() bool {
	if t.Trip == nil || t.Trip.HostKey == nil || t.Host == nil || t.Host.Can("host-keys") {
		return false
	}
	published, err := hostapi.Published(context.Background(), t.Host, 0)
	return err == nil && published.Any() && !published.Has(t.Trip.HostKey)
}

// keyNotes are about the key that signed in.
func (t Travelled) keyNotes() []causes.Code {
	if t.Trip == nil || t.Trip.With < 0 {
		return nil
	}
	var codes []causes.Code
	key := t.offered()[t.Trip.With]
	switch {
	case key.Locked && !t.Passage.AsksOnce():
		codes = append(codes, causes.PassphraseAsked)
	case key.Pair != nil && !key.Pair.Locked:
		codes = append(codes, causes.KeyNoPassphrase)
	}
	if sshkey.IsWeak(key.Public) {
		codes = append(codes, causes.KeyWeak)
	}
	if key.Pair != nil && !key.Pair.Modified.IsZero() && t.Station.Now().Sub(key.Pair.Modified) > oldKey {
		codes = append(codes, causes.KeyOld)
	}
	if key.Pair != nil && key.Pair.HasPublic && key.Pair.Comment == "" {
		codes = append(codes, causes.KeyCommentEmpty)
	}
	return codes
}
