package look

import (
	"time"

	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// A Topic is what a matter is about.
type Topic string

// The topics, the most urgent first.
const (
	ExposedKey   Topic = "exposed-key"   // others may read a private key
	MovedProgram Topic = "moved-program" // settings start this program where it is no longer
	Token        Topic = "token"         // expires, or has expired
	Certificate  Topic = "certificate"   // of a key; likewise
)

// A Matter is something that does not wait longer than two weeks.
type Matter struct {
	Topic Topic
	Name  string    // of the token
	Path  string    // of the key or the program
	Until time.Time // when it expires; zero where that is not the matter
}

// soonDays is how long before its end something matters, and shortLived how long it must be valid for that: what is
// signed for a day ends each day.
const soonDays, shortLived = 14, 28 * 24 * time.Hour

// Brief lists what matters within two weeks, the most urgent first. It starts no program and asks nobody, so that it
// can be called at each login, and at each prompt.
func Brief(station *workstation.Station) ([]Matter, error) {
	var list []Matter
	now := station.Now()
	found, err := sshkey.List(station.SSHDir())
	if err != nil {
		return nil, err
	}
	for _, f := range found {
		if f.Err == nil && sshway.IsExposed(f.Pair.Mode) && !f.Pair.Alone {
			list = append(list, Matter{Topic: ExposedKey, Path: f.Pair.Path})
		}
	}
	if calls := hosts.MovedCalls(station); len(calls) > 0 {
		list = append(list, Matter{Topic: MovedProgram, Path: calls[0].Program})
	}
	entries, err := tokens(station)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.EndsSoon(now) {
			list = append(list, Matter{Topic: Token, Name: e.Name, Until: e.Until})
		}
	}
	for _, f := range found {
		if f.Err != nil || f.Pair.Certificate == nil {
			continue
		}
		from, until := sshkey.CertificateTimes(f.Pair.Certificate)
		early := now.AddDate(0, 0, soonDays)
		if until.Sub(from) < shortLived {
			early = now
		}
		if !until.IsZero() && !until.After(early) {
			list = append(list, Matter{Topic: Certificate, Path: f.Pair.Path, Until: until})
		}
	}
	return list, nil
}
