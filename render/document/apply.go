package document

import "time"

// An Apply is what became of a declared state. Its words "changed", "failed", "msg" and "diff" are those that engines
// look for.
type Apply struct {
	Schema string `json:"schema"`
	// Changed is whether anything was changed; in a dry run, whether it would be.
	Changed bool `json:"changed"`
	Failed  bool `json:"failed"`
	// Message says it in a sentence.
	Message string      `json:"msg"`
	Diffs   []ApplyDiff `json:"diff"`
	// Applied is null where the state could not be read.
	Applied *AppliedState `json:"applied" jsonschema:"nullable"`
	Things  []ApplyThing  `json:"things"`
	Homes   []ApplyHome   `json:"changed_homes"`
	// Change is the number by which undo takes it back; null where nothing was changed.
	Change *int `json:"change" jsonschema:"nullable"`
}

// An AppliedState is the state that was, or is to be, applied.
type AppliedState struct {
	Fleet   string `json:"fleet"`
	Version string `json:"version"`
	SHA256  string `json:"sha256"`
}

// An ApplyDiff is what was, or would be, changed in one file, as a whole. Secrets are masked.
type ApplyDiff struct {
	Before       string `json:"before"`
	After        string `json:"after"`
	BeforeHeader string `json:"before_header"`
	AfterHeader  string `json:"after_header"`
}

// An ApplyThing is one file of the state.
type ApplyThing struct {
	Part string `json:"part" jsonschema:"enum=host,enum=trust,enum=git,enum=policy,enum=record"`
	// Thing is the host or the variable; null where it is the file as a whole.
	Thing   *string `json:"about" jsonschema:"nullable"`
	Path    Path    `json:"path"`
	Outcome string  `json:"outcome" jsonschema:"enum=ok,enum=changed,enum=would-change,enum=overruled,enum=left"`
	// OverruledBy and Line are the place of what wins over it; null where nothing does.
	OverruledBy *string `json:"overruled_by" jsonschema:"nullable"`
	Line        *int    `json:"line" jsonschema:"nullable"`
}

// An ApplyHome is a home in which something was, or would be, changed, or that could not be settled.
type ApplyHome struct {
	Person string `json:"person_name"`
	Path   Path   `json:"path"`
	// Done are sentences, one for each step.
	Done []string `json:"sentences"`
	// Change is the number in that home's own record; null where nothing was changed.
	Change *int `json:"change" jsonschema:"nullable"`
	// Why says why the home could not be settled; null where it was.
	Why *string `json:"why" jsonschema:"nullable"`
}

// A Facts is what an engine may know of a machine.
type Facts struct {
	Schema  string `json:"schema"`
	Version string `json:"version"`
	// Applied is null where no state was applied.
	Applied *AppliedState `json:"applied" jsonschema:"nullable"`
	// Policy is null where the machine has none.
	Policy *AuditPolicy `json:"policy" jsonschema:"nullable"`
	// Report is null where there is none in /var/lib/unicrux/audit.json.
	Report *FactsReport `json:"report" jsonschema:"nullable"`
}

// A FactsReport is the last report, in figures.
type FactsReport struct {
	When     time.Time `json:"when"`
	Complete bool      `json:"complete"`
	SHA256   *string   `json:"sha256" jsonschema:"nullable"`
	Homes    int       `json:"homes_count"`
	Must     int       `json:"must"`
	Should   int       `json:"should"`
	Tell     int       `json:"tell"`
	// SoonestEnd is when the next token or certificate expires; null where none does.
	SoonestEnd *time.Time `json:"soonest_end" jsonschema:"nullable"`
}
