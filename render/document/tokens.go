package document

import "time"

// A Token is a token in the chest. The secret itself is never in it.
type Token struct {
	Name string `json:"name"`
	// Host is the described host that it is for, by its name here.
	Host string `json:"host"`
	// URLHost is to whom alone it is sent: the host as in URLs, with the port where URLs have one.
	URLHost  string   `json:"url_host"`
	Account  *string  `json:"account" jsonschema:"nullable"`
	Purposes []string `json:"purposes"`
	// Scopes are the host's own names of what it may do.
	Scopes []string   `json:"scopes"`
	Made   *time.Time `json:"made" jsonschema:"nullable"`
	// Until is when it expires; null where that is not known.
	Until *time.Time `json:"until" jsonschema:"nullable"`
	// Proved is when it was last seen to work.
	Proved *time.Time `json:"proved" jsonschema:"nullable"`
	// RenewsItself is whether it came from signing in, and is renewed without asking.
	RenewsItself bool `json:"renews_itself"`
	// StoredIn is the type of the chest.
	StoredIn string `json:"stored_in"`
}

// A TokenAlone is one token.
type TokenAlone struct {
	Schema string `json:"schema"`
	Token
	// Change is the number of the change that stored it; null where it was only shown.
	Change *int `json:"change" jsonschema:"nullable"`
}

// Tokens are those in the chest.
type Tokens struct {
	Schema string  `json:"schema"`
	Tokens []Token `json:"tokens"`
}

// A TokenTest is a token and what trying it showed.
type TokenTest struct {
	Schema string `json:"schema"`
	// Works is null where it could not be tested.
	Works *bool `json:"works" jsonschema:"nullable"`
	// TestedBy is how it was tested; null where it was not.
	TestedBy *string `json:"tested_by" jsonschema:"nullable"`
	// Tried is what came of asking as git does; null where that was not tried.
	Tried *TriedRequests `json:"tried" jsonschema:"nullable"`
	// Lacks are the purposes that it does not serve.
	Lacks []string `json:"lacks"`
	Token
}

// TriedRequests are git's first requests to read and to write.
type TriedRequests struct {
	URL    string `json:"url"`
	Reads  bool   `json:"reads"`
	Writes bool   `json:"writes"`
	// Refused is what the host said; null where it refused nothing.
	Refused *string `json:"refused" jsonschema:"nullable"`
}

// A Chest is the place where secrets are stored.
type Chest struct {
	Schema string `json:"schema"`
	Type   string `json:"type" jsonschema:"enum=sealed,enum=desktop,enum=memory"`
	// SecretCount is how many are in it.
	SecretCount   int  `json:"secret_count"`
	HasPassphrase bool `json:"has_passphrase"`
	// OpenUntil is null while it is closed.
	OpenUntil *time.Time `json:"open_until" jsonschema:"nullable"`
	Folder    Path       `json:"folder"`
	// Damaged is whether entries cannot be read.
	Damaged bool `json:"damaged"`
}

// An Adoption is what chest adopt found in plain files, and moved.
type Adoption struct {
	Schema  string        `json:"schema"`
	Secrets []PlainSecret `json:"secrets"`
	Change  *int          `json:"change" jsonschema:"nullable"`
}

// A PlainSecret is a secret in a plain file.
type PlainSecret struct {
	// URLHost is the host as in URLs, with the port where URLs have one; null where it is not known.
	URLHost *string `json:"url_host" jsonschema:"nullable"`
	User    *string `json:"user" jsonschema:"nullable"`
	// Type is where such secrets are found: in a remote's URL, in a netrc file and the like.
	Type string `json:"type"`
	Path Path   `json:"path"`
	// Line is counted from 1; 0 where it is not known.
	Line int `json:"line"`
	// Movable is whether Unicrux can move it into the chest.
	Movable bool `json:"movable"`
	// Token is its name in the chest; null where it was not moved.
	Token *string `json:"token" jsonschema:"nullable"`
	// Error is why it was not moved; null where it was.
	Error *string `json:"error" jsonschema:"nullable"`
}

// A Holder is the background process that holds what was unlocked.
type Holder struct {
	Schema string `json:"schema"`
	Runs   bool   `json:"runs"`
	Socket Path   `json:"socket"`
	// PID is null when it does not run.
	PID  *int      `json:"pid" jsonschema:"nullable"`
	Keys []HeldKey `json:"keys"`
	// OpenUntil is until when the chest is open; null while it is closed.
	OpenUntil *time.Time `json:"open_until" jsonschema:"nullable"`
}

// A HeldKey is a key that an agent holds.
type HeldKey struct {
	Comment     string `json:"comment"`
	Fingerprint string `json:"fingerprint"`
	// Until is when the agent forgets it; null where the agent does not report it.
	Until *time.Time `json:"until" jsonschema:"nullable"`
	// AsksFirst is whether each use has to be confirmed; null where the agent does not report it.
	AsksFirst *bool `json:"asks_first" jsonschema:"nullable"`
}
