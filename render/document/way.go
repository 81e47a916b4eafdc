package document

// A Check is the way to a repository or host: what check tried, the crux where it is broken, and what mends it.
type Check struct {
	Schema   string   `json:"schema"`
	Question Question `json:"question"`
	// Open is whether what was asked about works.
	Open bool `json:"open"`
	// Account is whom the host takes the person for; null where it did not say.
	Account *string `json:"account" jsonschema:"nullable"`
	// Crux is the one cause that stops the way; null when the way is open.
	Crux   *Crux   `json:"crux" jsonschema:"nullable"`
	Stages []Stage `json:"stages"`
	Notes  []Note  `json:"notes"`
	Mends  []Mend  `json:"mends"`
}

// A Question is what was asked about.
type Question struct {
	URL string `json:"url"`
	// Remote is the name of the remote that was asked about; null where none was.
	Remote    *string `json:"remote" jsonschema:"nullable"`
	Transport string  `json:"transport"`
	Purpose   string  `json:"purpose" jsonschema:"enum=clone,enum=push"`
}

// A Crux is the one cause that stops a way.
type Crux struct {
	// Code is one of the catalogue: unicrux explain CODE tells about it.
	Code    string `json:"code"`
	Stage   string `json:"stage"`
	Summary string `json:"summary"`
	// Evidence is what shows it, in sentences.
	Evidence []string `json:"evidence"`
	// Seen is the same, for programs.
	Seen      []Fact `json:"seen"`
	Certainty string `json:"certainty" jsonschema:"enum=proved,enum=likely"`
}

// A Stage is a part of the way.
type Stage struct {
	Name  string `json:"name"`
	State string `json:"state" jsonschema:"enum=open,enum=broken,enum=not-reached,enum=skipped"`
	// Milliseconds is how long it took.
	Milliseconds float64 `json:"milliseconds"`
	Facts        []Fact  `json:"facts"`
}

// A Fact is something that was found, and where it comes from.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	// Origin is the file and line, the option or the variable it comes from; empty for what was found by trying.
	Origin string `json:"origin"`
}

// A Note is something worth knowing that stops nothing.
type Note struct {
	Code    string `json:"code"`
	Summary string `json:"summary"`
}

// A Mend is what removes a crux.
type Mend struct {
	Summary string `json:"summary"`
	// Command is what to run, each argument by itself; it is empty where no command mends it.
	Command []string `json:"command"`
	// By is who can do it.
	By string `json:"by" jsonschema:"enum=you,enum=administrator,enum=host"`
	// Automatic is whether check --mend and ready do it by themselves.
	Automatic bool `json:"automatic"`
}

// An Explain is what an error text, or a code of the catalogue, means.
type Explain struct {
	Schema string `json:"schema"`
	// Causes are the likely ones, the most likely first.
	Causes []Cause `json:"causes"`
	// Conclusive is whether the text alone tells which cause it is.
	Conclusive bool `json:"conclusive"`
}

// A Cause is one that a text can have.
type Cause struct {
	Code       string  `json:"code"`
	Likelihood float64 `json:"likelihood" jsonschema:"minimum=0,maximum=1"`
	Summary    string  `json:"summary"`
	// Stage is where on the way it is; empty for a note.
	Stage string `json:"stage"`
	// Quote is the line of the text that shows it; empty where a code was explained.
	Quote string `json:"quote"`
	// Confirm says what would confirm it.
	Confirm []string `json:"confirm"`
	Mends   []Mend   `json:"mends"`
}

// A Ready is what ready did to make a way open.
type Ready struct {
	Schema string `json:"schema"`
	// Open is whether the way is open now.
	Open bool `json:"open"`
	// Plan is what was going to be done.
	Plan []PlannedStep `json:"plan"`
	// Steps are those that were taken.
	Steps []ReadyStep `json:"steps"`
	// Folder is that of the clone; null where nothing was cloned.
	Folder *Path `json:"folder" jsonschema:"nullable"`
	// Cloned is whether this run cloned it.
	Cloned bool  `json:"cloned"`
	Check  Check `json:"check"`
}

// A PlannedStep is something that was going to be done.
type PlannedStep struct {
	Summary string `json:"summary"`
	// Effects say what it changes.
	Effects []string `json:"effects"`
}

// A ReadyStep is something that was done.
type ReadyStep struct {
	// Code is that of the crux it removes.
	Code    string `json:"code"`
	Summary string `json:"summary"`
	// Change is the number by which undo takes it back; null where it changed nothing here.
	Change *int `json:"change" jsonschema:"nullable"`
}
