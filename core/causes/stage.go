package causes

import "slices"

// A StageName names a part of the way.
type StageName string

// The stages, in the order of the way.
const (
	Address    StageName = "address"
	Settings   StageName = "settings"
	Reach      StageName = "reach"
	Trust      StageName = "trust"
	SignIn     StageName = "sign-in"
	Repository StageName = "repository"
	Permission StageName = "permission"
)

// Beyond is the place of causes that are no matter of the way at all.
const Beyond StageName = "beyond"

// Stages lists all stages in order.
var Stages = []StageName{Address, Settings, Reach, Trust, SignIn, Repository, Permission}

// Within reports whether a stage is one of those between two others, both included.
func (s StageName) Within(from, to StageName) bool {
	at := slices.Index(Stages, s)
	return at >= slices.Index(Stages, from) && at <= slices.Index(Stages, to)
}

// Before reports whether a stage comes before another one on the way.
func (s StageName) Before(other StageName) bool {
	return slices.Index(Stages, s) < slices.Index(Stages, other)
}

// By says who can carry a mend out.
type By string

// Those who can mend.
const (
	You           By = "you"
	Administrator By = "administrator"
	Host          By = "host"
)
