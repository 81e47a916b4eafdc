package document

import "time"

// An Audit is what was found on one machine. No secret is in it.
type Audit struct {
	Schema  string       `json:"schema"`
	Machine AuditMachine `json:"machine"`
	When    time.Time    `json:"when"`
	// TookSeconds is how long it took.
	TookSeconds float64      `json:"took_seconds"`
	Program     AuditProgram `json:"program"`
	// Policy is null where the machine has none: what holds without one was asked for then.
	Policy *AuditPolicy `json:"policy" jsonschema:"nullable"`
	// Applied is the state that was applied to the machine last; null for none.
	Applied *AppliedState `json:"applied" jsonschema:"nullable"`
	// Complete is whether each home was read as a whole.
	Complete bool           `json:"complete"`
	Homes    []AuditHome    `json:"homes"`
	Findings []AuditFinding `json:"findings"`
	Counts   []AuditCount   `json:"counts"`
	// Against is what changed since an older report; null without --against.
	Against *AuditDrift `json:"against" jsonschema:"nullable"`
}

// An AuditMachine is the machine.
type AuditMachine struct {
	Name string `json:"name"`
	// ID tells machines of one name apart: a hash of the system's own number. Null where it has none.
	ID *string `json:"id" jsonschema:"nullable"`
}

// An AuditProgram is the program that looked.
type AuditProgram struct {
	Version string `json:"version"`
	// Commit is null where the build does not know it.
	Commit *string `json:"commit" jsonschema:"nullable"`
}

// An AuditPolicy is what was asked for.
type AuditPolicy struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	SHA256  string `json:"sha256"`
	File    Path   `json:"file"`
}

// An AuditHome is what is in one home.
type AuditHome struct {
	// Person is null where no account owns it.
	Person *string `json:"person" jsonschema:"nullable"`
	UID    int     `json:"uid"`
	Path   Path    `json:"path"`
	State  string  `json:"state" jsonschema:"enum=read,enum=partly,enum=unread"`
	// Why says what could not be read; null where all was.
	Why          *string            `json:"why" jsonschema:"nullable"`
	Keys         []AuditKey         `json:"keys"`
	Certificates []AuditCertificate `json:"certificates"`
	Tokens       []AuditToken       `json:"tokens"`
	Hosts        []AuditHost        `json:"hosts"`
	// StoredHostKeys is how many keys of hosts ssh knows here.
	StoredHostKeys int `json:"stored_host_keys"`
}

// An AuditKey is a private key, by what stands before its secret part.
type AuditKey struct {
	// File is where it is, with "~" for the home.
	File string `json:"file_in_home"`
	// Fingerprint and PublicLine are null where the public half is not told.
	Fingerprint *string `json:"fingerprint" jsonschema:"nullable"`
	PublicLine  *string `json:"public_line" jsonschema:"nullable"`
	// Type is null where only the public half would tell.
	Type          *string   `json:"type" jsonschema:"nullable"`
	Bits          *int      `json:"bits" jsonschema:"nullable"`
	HasPassphrase bool      `json:"has_passphrase"`
	InDevice      bool      `json:"in_device"`
	Modified      time.Time `json:"modified"`
	// KnownAt are the hosts that were told about it from here, or seen to accept it.
	KnownAt []string `json:"known_at"`
}

// An AuditCertificate is one for signing in.
type AuditCertificate struct {
	// File is where it is, with "~" for the home.
	File        string     `json:"file_in_home"`
	Fingerprint string     `json:"fingerprint"`
	Authority   string     `json:"authority"`
	Principals  []string   `json:"principals"`
	From        *time.Time `json:"from" jsonschema:"nullable"`
	Until       *time.Time `json:"until" jsonschema:"nullable"`
}

// An AuditToken is what the chest tells of a token without being opened.
type AuditToken struct {
	Name string `json:"name"`
	At   string `json:"at"`
	// Host is the name of the description; null for none.
	Host    *string `json:"host" jsonschema:"nullable"`
	User    *string `json:"user" jsonschema:"nullable"`
	Account *string `json:"account" jsonschema:"nullable"`
	// ID is the host's own, by which the token can be revoked without this machine; null where it was not told.
	ID       *string    `json:"id" jsonschema:"nullable"`
	Place    string     `json:"place" jsonschema:"enum=sealed,enum=desktop,enum=memory"`
	Purposes []string   `json:"purposes"`
	Scopes   []string   `json:"scopes"`
	Made     *time.Time `json:"made" jsonschema:"nullable"`
	Until    *time.Time `json:"until" jsonschema:"nullable"`
	// Renews is whether it renews itself.
	Renews bool `json:"renews"`
}

// An AuditHost is a host that is described for a home.
type AuditHost struct {
	Name string `json:"name"`
	At   string `json:"at"`
	// ByAdministrator is whether the machine's administrator describes it.
	ByAdministrator bool `json:"by_administrator"`
}

// An AuditFinding is one thing that is not as the policy asks.
type AuditFinding struct {
	// ID is the same for the same finding in every report of this machine, whatever line it stands on.
	ID    string `json:"id"`
	Code  string `json:"code"`
	Level string `json:"level" jsonschema:"enum=must,enum=should,enum=tell"`
	// Person is null for the machine itself. Of a home that no account owns it is "uid" with the number.
	Person *string `json:"person" jsonschema:"nullable"`
	Thing  string  `json:"thing"`
	// File is where it is, with "~" for the home; empty where it is in none.
	File   string `json:"file_in_home"`
	Line   *int   `json:"line" jsonschema:"nullable"`
	Detail string `json:"detail"`
	// Since is when it was first seen, as far as the reports that were compared tell.
	Since time.Time `json:"since"`
	// Excepted is the exception by which it is allowed for now; null for none.
	Excepted *AuditException `json:"excepted" jsonschema:"nullable"`
}

// An AuditException is one of the policy's.
type AuditException struct {
	Until string `json:"until"`
	Why   string `json:"why"`
}

// An AuditCount is how often a rule was broken.
type AuditCount struct {
	Code  string `json:"code"`
	Level string `json:"level"`
	Count int    `json:"count"`
	// ExceptedCount is how many of them an exception allows for now.
	ExceptedCount int `json:"excepted_count"`
}

// An AuditDrift is what changed since an older report.
type AuditDrift struct {
	When time.Time `json:"when"`
	// New, Still and Gone are the ids of findings. NotSeen are those of what was not looked at
	// as a whole this time.
	New     []string `json:"new"`
	Still   []string `json:"still"`
	Gone    []string `json:"gone"`
	NotSeen []string `json:"not_seen"`
}
