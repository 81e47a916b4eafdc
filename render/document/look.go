package document

import "time"

// A Look is what is on this workstation.
type Look struct {
	Schema string    `json:"schema"`
	Keys   []LookKey `json:"keys"`
	// Hosts are the described ones.
	Hosts []LookHost `json:"hosts"`
	// Undescribed are hosts that something here names and nobody has described.
	Undescribed []Undescribed `json:"undescribed"`
	Tokens      []Token       `json:"tokens"`
	Agents      []Agent       `json:"agents"`
	Unsafe      []Unsafe      `json:"unsafe"`
	// Secrets are those for hosts in plain files.
	Secrets []PlainSecret `json:"secrets"`
	// AgentForwardedEverywhere is the line that lends the agent to every host; null where none does.
	AgentForwardedEverywhere *string `json:"agent_forwarded_everywhere" jsonschema:"nullable"`
	// KnownHosts are the stored host keys; null unless look hosts was asked.
	KnownHosts *KnownHosts `json:"known_hosts" jsonschema:"nullable"`
	// Next is the one command that helps most.
	Next Next `json:"next"`
}

// A Brief is what matters within two weeks, the most urgent first.
type Brief struct {
	Schema  string   `json:"schema"`
	Matters []Matter `json:"matters"`
}

// A Matter is something that does not wait longer.
type Matter struct {
	Topic   string `json:"topic" jsonschema:"enum=exposed-key,enum=moved-program,enum=token,enum=certificate"`
	Summary string `json:"summary"`
	// Command helps.
	Command []string `json:"command"`
	// Until is when it expires; null where that is not the matter.
	Until *time.Time `json:"until" jsonschema:"nullable"`
}

// A LookKey is a key pair as look lists it.
type LookKey struct {
	Path          Path   `json:"path"`
	Fingerprint   string `json:"fingerprint"`
	HasPassphrase bool   `json:"has_passphrase"`
	InAgent       bool   `json:"in_agent"`
}

// A LookHost is a described host, and what ssh would offer it.
type LookHost struct {
	Name string `json:"name"`
	// Trusted is whether its host key is stored.
	Trusted bool `json:"trusted"`
	// Offers are the keys in the order in which ssh would offer them.
	Offers []Path `json:"offers"`
	// OnlyInAgent is how many further keys ssh would offer, which only an agent has.
	OnlyInAgent int `json:"only_in_agent"`
}

// An Undescribed is a host that is named here.
type Undescribed struct {
	Name string `json:"name"`
	// KnownFrom says what names it.
	KnownFrom []string `json:"known_from"`
}

// An Unsafe is a key that is at risk.
type Unsafe struct {
	Risk string `json:"risk"`
	Path Path   `json:"path"`
}

// A Next is what to do next.
type Next struct {
	Summary string   `json:"summary"`
	Command []string `json:"command"`
}

// An Agent is an ssh agent that ssh would ask.
type Agent struct {
	Socket Path `json:"socket"`
	// Holder is whether it is Unicrux's own.
	Holder bool `json:"holder"`
	// Answers is whether it runs.
	Answers bool `json:"answers"`
	// AskedFor are the hosts for which ssh asks it.
	AskedFor []string `json:"asked_for"`
	// AskedForOthers is whether ssh asks it for every host without settings of its own.
	AskedForOthers bool      `json:"asked_for_others"`
	Keys           []HeldKey `json:"keys"`
}

// KnownHosts are the stored host keys.
type KnownHosts struct {
	Keys []KnownHostKey `json:"keys"`
	// Unreadable says which lines cannot be read, and why.
	Unreadable []string `json:"unreadable"`
}

// A KnownHostKey is a line of a known_hosts file.
type KnownHostKey struct {
	Origin string `json:"origin"`
	// HostNames are the names and patterns that it is for; a hashed one is shown by the host that it fits.
	HostNames []string `json:"host_names"`
	Hashed    bool     `json:"hashed"`
	// Marker is “cert-authority” or “revoked”; null for none.
	Marker      *string `json:"marker" jsonschema:"nullable"`
	Type        string  `json:"type"`
	Fingerprint string  `json:"fingerprint"`
	// Fault is what is wrong with the line; null for nothing.
	Fault *string `json:"fault" jsonschema:"nullable"`
	// Repeats is the line that it repeats or contradicts; null for none.
	Repeats *string `json:"repeats" jsonschema:"nullable"`
}

// Changes are what Unicrux has changed, the oldest first.
type Changes struct {
	Schema  string   `json:"schema"`
	Changes []Change `json:"changes"`
}

// A Change is one recorded edit.
type Change struct {
	// Change is its number, by which undo takes it back.
	Change  int        `json:"change"`
	When    *time.Time `json:"when" jsonschema:"nullable"`
	Summary string     `json:"summary"`
	// Undone is when it was taken back; null where it was not.
	Undone *time.Time   `json:"undone" jsonschema:"nullable"`
	Steps  []ChangeStep `json:"steps"`
}

// A ChangeStep is a file that was changed, or something at a host.
type ChangeStep struct {
	Summary string  `json:"summary"`
	Path    *Path   `json:"path" jsonschema:"nullable"`
	Host    *string `json:"host" jsonschema:"nullable"`
	// Done is false where the run was cut short there.
	Done bool `json:"done"`
}

// A Plan is what a dry run would have changed.
type Plan struct {
	Schema      string       `json:"schema"`
	Differences []Difference `json:"differences"`
}

// A Difference is a file, or something at a host, that would change.
type Difference struct {
	Summary string `json:"summary"`
	Path    *Path  `json:"path" jsonschema:"nullable"`
	// Difference is in the unified format; null where no file changes, or where the file is a secret.
	Difference *string `json:"difference" jsonschema:"nullable"`
}

// An Undo is a change that was taken back.
type Undo struct {
	Schema string `json:"schema"`
	Change
	// SetAside are private keys that were set aside, and not deleted.
	SetAside []Path `json:"set_aside"`
}

// An UndoAll is several changes that were taken back.
type UndoAll struct {
	Schema string `json:"schema"`
	// ChangeNumbers are those that were taken back.
	ChangeNumbers []int `json:"change_numbers"`
	// PassedOver are those that could not be.
	PassedOver []int `json:"passed_over"`
}
