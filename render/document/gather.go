package document

import "time"

// A Gather is what the reports of many machines come to.
type Gather struct {
	Schema string    `json:"schema"`
	When   time.Time `json:"when"`
	// Reported is how many machines reported; OlderCount how many reports a newer one of the same machine replaces.
	Reported   int             `json:"reported"`
	OlderCount int             `json:"older_count"`
	Machines   []GatherMachine `json:"machines"`
	// Silent are machines that are expected and did not report; Unexpected those that reported and are not expected.
	Silent     []string       `json:"silent"`
	Unexpected []string       `json:"unexpected"`
	Findings   []GatherAbout  `json:"about_machines"`
	Rules      []GatherRule   `json:"rules"`
	Unread     []GatherUnread `json:"unread"`
	// Against is what changed since an older gathering; null without --against.
	Against *GatherDrift `json:"drift" jsonschema:"nullable"`
}

// A GatherMachine is one machine, by its newest report.
type GatherMachine struct {
	Name string  `json:"name"`
	ID   *string `json:"id" jsonschema:"nullable"`
	// File is null for standard input.
	File *Path `json:"file" jsonschema:"nullable"`
	// When is when it was looked at.
	When     time.Time `json:"when"`
	Complete bool      `json:"complete"`
	Old      bool      `json:"is_old"`
	// Program is the version of the program that looked.
	Program string `json:"program_version"`
	// PolicySHA256 and StateSHA256 are null where the machine has none.
	PolicySHA256 *string `json:"policy_sha256" jsonschema:"nullable"`
	StateSHA256  *string `json:"state_sha256" jsonschema:"nullable"`
	Homes        int     `json:"homes_count"`
	Must         int     `json:"must"`
	Should       int     `json:"should"`
	Tell         int     `json:"tell"`
	// Findings are those that were found on it, for a later gathering.
	Findings []GatherFound `json:"found_there"`
}

// A GatherFound is a finding of one machine.
type GatherFound struct {
	ID     string  `json:"finding"`
	Code   string  `json:"code"`
	Level  string  `json:"level"`
	Person *string `json:"person" jsonschema:"nullable"`
	Thing  string  `json:"thing"`
}

// A GatherAbout is a finding that only many reports tell.
type GatherAbout struct {
	Code  string `json:"code"`
	Level string `json:"level"`
	// MachineName is null where it is about several.
	MachineName *string `json:"machine_name" jsonschema:"nullable"`
	Thing       string  `json:"thing"`
	Detail      string  `json:"detail"`
}

// A GatherRule is what was found by one rule on all machines.
type GatherRule struct {
	Code          string `json:"code"`
	Level         string `json:"level"`
	Count         int    `json:"count"`
	Machines      int    `json:"machines_count"`
	ExceptedCount int    `json:"excepted_count"`
}

// A GatherUnread is a file that is no report.
type GatherUnread struct {
	// File is null for standard input.
	File   *Path  `json:"file" jsonschema:"nullable"`
	Reason string `json:"reason"`
}

// A GatherDrift counts what changed, by rule.
type GatherDrift struct {
	Since time.Time         `json:"since_when"`
	Rules []GatherDriftRule `json:"by_rule"`
}

// A GatherDriftRule is one rule. What was found on a machine that is silent now, or whose report is incomplete or old,
// was not seen.
type GatherDriftRule struct {
	Code    string `json:"code"`
	New     int    `json:"new_count"`
	Still   int    `json:"still_count"`
	Gone    int    `json:"gone_count"`
	NotSeen int    `json:"not_seen_count"`
}
