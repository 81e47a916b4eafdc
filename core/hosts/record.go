package hosts

import (
	"slices"

	"anchorage.example/unicrux/core/workstation"
)

// What a recorded step did at a host, by which it is known how to take it back, and what
// the host knows since.
const (
	ActAdd    = "add-key"      // a key is registered with the host
	ActRemove = "remove-key"   // the host was made to forget one
	ActMiss   = "miss-key"     // the host was seen to take a key no more
	ActRepo   = "add-repo"     // the host was made to create a repository, which stays
	ActIssue  = "issue-token"  // the host issued a token
	ActKeep   = "keep-token"   // the chest was given one
	ActRevoke = "revoke-token" // the host, or the chest, was made to forget one
	ActSee    = "see-key"      // the host was seen to take a key that others had told it about
)

// KnownKeys tells by the record of changes which hosts know which keys: their names by the
// fingerprint of the key. What was told on a host's page since is not in it.
func KnownKeys(station *workstation.Station) (map[string][]string, error) {
	changes, err := station.Changes()
	if err != nil {
		return nil, err
	}
	known := map[string][]string{}
	for _, change := range changes {
		for _, step := range change.Steps {
			if step.Host == nil || !step.Done || change.Undone != nil {
				continue
			}
			fingerprint, host := step.Host.Data["fingerprint"], step.Host.Host
			known[fingerprint] = slices.DeleteFunc(known[fingerprint], func(name string) bool { return name == host })
			if step.Host.Act == ActAdd || step.Host.Act == ActSee {
				known[fingerprint] = append(known[fingerprint], host)
			}
		}
	}
	return known, nil
}
