package document

import "time"

// A Key is a key pair of this workstation.
type Key struct {
	// Name is that of the private key's file.
	Name string `json:"name"`
	// Path is the private key's file.
	Path Path   `json:"path"`
	Type string `json:"type"`
	Bits int    `json:"bits"`
	// Fingerprint is that of the public key, as in “SHA256:…”; empty where the public key cannot be read.
	Fingerprint string `json:"fingerprint"`
	Comment     string `json:"comment"`
	// HasPassphrase is whether the private key is encrypted.
	HasPassphrase bool `json:"has_passphrase"`
	// PublicLine is what a host wants to have; empty where the public key cannot be read.
	PublicLine string `json:"public_line"`
	// Settings are the lines of ssh's configuration that name it, as file:line.
	Settings []string `json:"settings"`
	// KnownAt are the hosts that it was registered with, or that were seen to accept it.
	KnownAt []string `json:"known_at"`
	// InAgent is whether an agent holds it.
	InAgent  bool       `json:"in_agent"`
	Modified *time.Time `json:"modified" jsonschema:"nullable"`
	// Certificate is the one beside it; null where there is none.
	Certificate *Certificate `json:"certificate" jsonschema:"nullable"`
}

// A KeyAlone is one key pair.
type KeyAlone struct {
	Schema string `json:"schema"`
	Key
	// Change is the number of the change that made it; null where it was only shown.
	Change *int `json:"change" jsonschema:"nullable"`
}

// Keys are the key pairs of the ssh folder.
type Keys struct {
	Schema string `json:"schema"`
	Keys   []Key  `json:"keys"`
	// Unreadable says which files look like keys and cannot be read, and why.
	Unreadable []string `json:"unreadable"`
}

// A Certificate is an SSH certificate of a key.
type Certificate struct {
	// Principals are the users that it signs in.
	Principals []string   `json:"principals"`
	ValidFrom  *time.Time `json:"valid_from" jsonschema:"nullable"`
	// Until is null for one without expiry.
	Until *time.Time `json:"until" jsonschema:"nullable"`
	// Authority is the fingerprint of the key that signed it.
	Authority string `json:"authority"`
	ID        string `json:"id"`
}

// An AgentKey is a key that was loaded into agents, or unloaded from them.
type AgentKey struct {
	Schema string `json:"schema"`
	Key    Path   `json:"key"`
	// AgentSockets are those of the agents.
	AgentSockets []Path `json:"agent_sockets"`
	// Held is whether they hold the key now.
	Held bool `json:"held"`
	// Until is when they forget it; null where they do not hold it.
	Until  *time.Time `json:"until" jsonschema:"nullable"`
	Change *int       `json:"change" jsonschema:"nullable"`
}

// A Found is what key find found in folders.
type Found struct {
	Schema string `json:"schema"`
	// Files is how many were looked at.
	Files int `json:"files"`
	// Complete is false where there was more than it looks at.
	Complete bool       `json:"complete"`
	Keys     []FoundKey `json:"keys"`
}

// A FoundKey is a file that holds a key.
type FoundKey struct {
	Path    Path `json:"path"`
	Private bool `json:"private"`
	// Type is null where the key cannot be read.
	Type          *string `json:"type" jsonschema:"nullable"`
	Fingerprint   *string `json:"fingerprint" jsonschema:"nullable"`
	HasPassphrase *bool   `json:"has_passphrase" jsonschema:"nullable"`
	// InRepository is the git repository that it is in; null for none.
	InRepository *Path    `json:"in_repository" jsonschema:"nullable"`
	Settings     []string `json:"settings"`
	// SameAs is another file with the same key; null for none.
	SameAs *Path    `json:"same_as" jsonschema:"nullable"`
	Risks  []string `json:"risks"`
}

// A Comparison sets the keys here beside those that a host has.
type Comparison struct {
	Schema string        `json:"schema"`
	Host   string        `json:"host"`
	Keys   []ComparedKey `json:"keys"`
}

// A ComparedKey is a key that is here, at the host, or both.
type ComparedKey struct {
	// Path is null when the key is not here.
	Path *Path `json:"path" jsonschema:"nullable"`
	// ID is the host's own; null when the host does not know the key.
	ID *string `json:"id" jsonschema:"nullable"`
	// Title is under which the host lists it.
	Title       *string    `json:"title" jsonschema:"nullable"`
	Fingerprint string     `json:"fingerprint"`
	Until       *time.Time `json:"until" jsonschema:"nullable"`
	LastUsed    *time.Time `json:"last_used" jsonschema:"nullable"`
	Access      *string    `json:"access" jsonschema:"nullable"`
}

// A Registration is a key that a host has now.
type Registration struct {
	Schema string `json:"schema"`
	Host   string `json:"host"`
	Key    Path   `json:"key"`
	// ID is the host's own for the key; null where the host does not report it.
	ID      *string `json:"id" jsonschema:"nullable"`
	Title   *string `json:"title" jsonschema:"nullable"`
	Account *string `json:"account" jsonschema:"nullable"`
	// Already is whether the host had it before.
	Already bool       `json:"already"`
	Until   *time.Time `json:"until" jsonschema:"nullable"`
	Access  *string    `json:"access" jsonschema:"nullable"`
	// Proof is how it was proved that the host accepts the key.
	Proof  string `json:"proof"`
	Change *int   `json:"change" jsonschema:"nullable"`
}

// A Renewal is a key in the place of another.
type Renewal struct {
	Schema string `json:"schema"`
	OldKey Path   `json:"old_key"`
	NewKey Path   `json:"new_key"`
	// RegisteredAt are the hosts that have the new key.
	RegisteredAt []string `json:"registered_at"`
	// WithdrawOnWebPage are the hosts that still have the old key: remove it on their web pages.
	WithdrawOnWebPage []string `json:"withdraw_on_web_page"`
	// Settings are the lines that still name the old key, as file:line.
	Settings []string `json:"settings"`
	// Retired is whether the files of the old key were set aside.
	Retired bool `json:"retired"`
	Change  *int `json:"change" jsonschema:"nullable"`
}

// A Retirement is a key that is no longer used.
type Retirement struct {
	Schema string `json:"schema"`
	Key    Path   `json:"key"`
	// WithdrawnAt are the hosts that no longer have it.
	WithdrawnAt []string `json:"withdrawn_at"`
	// WithdrawOnWebPage are the hosts that still have it: remove it on their web pages.
	WithdrawOnWebPage []string `json:"withdraw_on_web_page"`
	// Settings are the lines of the person's own that still name it, as file:line.
	Settings []string `json:"settings"`
	Change   *int     `json:"change" jsonschema:"nullable"`
}
