package document

// A Host is a described host.
type Host struct {
	// Name is its name here.
	Name  string `json:"name"`
	Title string `json:"title"`
	// HostName is the one in clone URLs.
	HostName string `json:"host_name"`
	// User is for whom ssh signs in.
	User string `json:"user"`
	Port int    `json:"port"`
	// Address is where it is reached in place of its host name; null where that is not set.
	Address *string `json:"address" jsonschema:"nullable"`
	// API is the URL of its API; null where it is not known.
	API *string `json:"api" jsonschema:"nullable"`
	// ManagedBy is the file in which the machine's administrator describes it for everybody; null for the person's own.
	ManagedBy *Path `json:"managed_by" jsonschema:"nullable"`
}

// A HostAlone is one host.
type HostAlone struct {
	Schema string `json:"schema"`
	Host
	// Change is the number of the change that added it; null where it was only shown.
	Change *int `json:"change" jsonschema:"nullable"`
}

// Hosts are the described ones.
type Hosts struct {
	Schema string `json:"schema"`
	Hosts  []Host `json:"hosts"`
	// Unreadable says which descriptions cannot be read, and why.
	Unreadable []string `json:"unreadable"`
}

// Accounts are those on one host.
type Accounts struct {
	Schema   string    `json:"schema"`
	Host     string    `json:"host"`
	Accounts []Account `json:"accounts"`
}

// An Account is who one is on a host.
type Account struct {
	// Account is null for the one that is used where no other is.
	Account *string `json:"account" jsonschema:"nullable"`
	// Folders are those in which it is used.
	Folders []string `json:"folders"`
	// Key is the one that ssh offers for it; null where there is none yet.
	Key    *Path   `json:"key" jsonschema:"nullable"`
	Author *string `json:"author" jsonschema:"nullable"`
}

// A Trust is a host's key that was stored.
type Trust struct {
	Schema string `json:"schema"`
	Host   string `json:"host"`
	// StoredFor is the name under which ssh looks for it.
	StoredFor   string `json:"stored_for"`
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"`
	// ComparedWith is what it is the same as.
	ComparedWith string `json:"compared_with"`
	Path         Path   `json:"path"`
	// Already is whether it was stored before.
	Already bool `json:"already"`
	Change  *int `json:"change" jsonschema:"nullable"`
}

// Settings are the ssh and git settings that hold for a host.
type Settings struct {
	Schema string    `json:"schema"`
	Host   string    `json:"host"`
	SSH    []Setting `json:"ssh"`
	Git    []Setting `json:"git"`
	// Problems are why the ssh client would stop.
	Problems []string `json:"problems"`
	// Complete is false where a command would have to be run to tell all.
	Complete bool `json:"complete"`
}

// A Setting is one that holds.
type Setting struct {
	// Name is in lower case, as the ssh client prints it.
	Name  string `json:"name"`
	Value string `json:"value"`
	// Origin is its file and line; null for the default.
	Origin *string `json:"origin" jsonschema:"nullable"`
	// Default is what would hold without it; null where that was not asked for (--verbose).
	Default *string       `json:"default" jsonschema:"nullable"`
	Lost    []LostSetting `json:"lost"`
}

// A LostSetting is a line that does not hold.
type LostSetting struct {
	Value  string `json:"value"`
	Origin string `json:"origin"`
	Why    string `json:"why"`
}

// A Set is what host set has set.
type Set struct {
	Schema  string `json:"schema"`
	Summary string `json:"summary"`
	// Overruled are settings that another line overrides all the same.
	Overruled []Overruling `json:"overruled"`
	Change    *int         `json:"change" jsonschema:"nullable"`
}

// An Overruling is a line that holds in place of one that was set.
type Overruling struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Origin string `json:"origin"`
}

// A Repository is one at a host; null is what the host does not report.
type Repository struct {
	// Repository is its path at the host.
	Repository string  `json:"repository"`
	SSHURL     *string `json:"ssh_url" jsonschema:"nullable"`
	HTTPSURL   *string `json:"https_url" jsonschema:"nullable"`
	// Access is what this account may do.
	Access     *string `json:"access" jsonschema:"nullable"`
	Visibility *string `json:"visibility" jsonschema:"nullable"`
	// Archived is whether the host accepts no pushes to it.
	Archived bool `json:"archived"`
	// Branch is its default branch.
	Branch *string `json:"branch" jsonschema:"nullable"`
}

// Repositories are those of an account at a host.
type Repositories struct {
	Schema       string       `json:"schema"`
	Host         string       `json:"host"`
	Repositories []Repository `json:"repositories"`
}

// A RepositoryAlone is one that repo new created.
type RepositoryAlone struct {
	Schema string `json:"schema"`
	Host   string `json:"host"`
	Repository
	// Already is whether it existed before.
	Already bool `json:"already"`
	// Remote is the name of the remote that leads to it; null where no folder was attached.
	Remote *string `json:"remote" jsonschema:"nullable"`
	// Pushed is the branch that was pushed; null for none.
	Pushed *string `json:"pushed" jsonschema:"nullable"`
	Change *int    `json:"change" jsonschema:"nullable"`
}

// Trials are what came of trying a description against its host.
type Trials struct {
	Schema string  `json:"schema"`
	Host   string  `json:"host"`
	Trials []Trial `json:"trials"`
	Change *int    `json:"change" jsonschema:"nullable"`
}

// A Trial is one operation that was tried.
type Trial struct {
	Operation    string  `json:"operation"`
	State        string  `json:"state"`
	Message      *string `json:"message" jsonschema:"nullable"`
	Milliseconds float64 `json:"milliseconds"`
}

// Remotes are the remotes of a repository.
type Remotes struct {
	Schema  string   `json:"schema"`
	Remotes []Remote `json:"remotes"`
}

// A Remote is one of a repository.
type Remote struct {
	Name string `json:"name"`
	Type string `json:"type" jsonschema:"enum=git,enum=submodule,enum=mercurial"`
	// Push is whether it is only for pushing.
	Push bool `json:"push"`
	// URL is as it is written, without secrets.
	URL string `json:"url"`
	// EffectiveURL is what insteadOf rules make of it; null when it is the same.
	EffectiveURL *string `json:"effective_url" jsonschema:"nullable"`
	// HasSecret is whether a secret is in the URL.
	HasSecret bool    `json:"has_secret"`
	Origin    string  `json:"origin"`
	Transport *string `json:"transport" jsonschema:"nullable"`
	// Host is the described host that it leads to; null for none.
	Host    *string `json:"host" jsonschema:"nullable"`
	Account *string `json:"account" jsonschema:"nullable"`
}

// A Draft is a description made from an API document.
type Draft struct {
	Schema     string           `json:"schema"`
	Name       string           `json:"name"`
	HostName   string           `json:"host_name"`
	Operations []DraftOperation `json:"operations"`
	// Missing are the operations that the document does not show.
	Missing []string `json:"missing"`
	// Text is the description itself, in TOML.
	Text string `json:"text"`
	// Path is the file that it was written to; null for none.
	Path   *Path `json:"path" jsonschema:"nullable"`
	Change *int  `json:"change" jsonschema:"nullable"`
}

// A DraftOperation is one that was found.
type DraftOperation struct {
	Name       string  `json:"name"`
	Request    string  `json:"request"`
	Likelihood float64 `json:"likelihood" jsonschema:"minimum=0,maximum=1"`
	// Used is whether it is in the description; what is doubtful is in it as a comment.
	Used bool `json:"used"`
}

// A Card is what to fill in into another program.
type Card struct {
	Schema  string     `json:"schema"`
	Host    string     `json:"host"`
	Purpose string     `json:"purpose" jsonschema:"enum=clone,enum=push"`
	Sides   []CardSide `json:"sides"`
}

// A CardSide is one transport.
type CardSide struct {
	Transport string `json:"transport"`
	// Ready is whether it works as it is.
	Ready bool `json:"ready"`
	// Command makes it ready; empty where it is.
	Command []string    `json:"command"`
	Fields  []CardField `json:"fields"`
}

// A CardField is one field to fill in.
type CardField struct {
	Name string `json:"name"`
	// Value is null for a secret.
	Value *string `json:"value" jsonschema:"nullable"`
	// Token is the name of the token in the chest that is the value; null for others.
	Token *string `json:"token" jsonschema:"nullable"`
	Note  *string `json:"note" jsonschema:"nullable"`
}

// A Practice is the practice hosts that run.
type Practice struct {
	Schema string         `json:"schema"`
	Hosts  []PracticeHost `json:"hosts"`
}

// A PracticeHost is a code host on loopback to try things on.
type PracticeHost struct {
	Name    string `json:"name"`
	Title   string `json:"title"`
	SSHPort int    `json:"ssh_port"`
	WebPort int    `json:"web_port"`
	// DescriptionPath is its description, for host add.
	DescriptionPath Path `json:"description_path"`
	// TokenPath is a file with a token for its API; null where it has none.
	TokenPath *Path   `json:"token_path" jsonschema:"nullable"`
	Account   string  `json:"account"`
	SSHURL    *string `json:"ssh_url" jsonschema:"nullable"`
	HTTPSURL  *string `json:"https_url" jsonschema:"nullable"`
}

// Faults are what a practice host can be told to do wrong.
type Faults struct {
	Schema string  `json:"schema"`
	Faults []Fault `json:"faults"`
}

// A Fault is something that a practice host does wrong.
type Fault struct {
	// Code is that of the crux it causes.
	Code       string   `json:"code"`
	Transports []string `json:"transports"`
	Summary    string   `json:"summary"`
}

// A Demo is what the demo did.
type Demo struct {
	Schema string     `json:"schema"`
	Worked bool       `json:"worked"`
	Steps  []DemoStep `json:"steps"`
}

// A DemoStep is one command of the demo.
type DemoStep struct {
	Command []string `json:"command"`
	Exit    int      `json:"exit"`
	Worked  bool     `json:"worked"`
}
