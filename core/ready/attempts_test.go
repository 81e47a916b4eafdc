package ready

import (
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
)

// TestNothingIsTriedTwice: of what needs nobody else each mend is tried once for each crux, in order.
func TestNothingIsTriedTwice(t *testing.T) {
	t.Parallel()
	tried := attempts{}
	key := &finding.Way{Crux: finding.New(causes.KeyNotRegistered, finding.Proved), Mends: []finding.Mend{
		{Summary: "by hand", Automatic: true},
		{Summary: "somebody else's", Action: finding.Action{Do: finding.RegisterKey, Key: "a"}},
		{Summary: "a", Automatic: true, Action: finding.Action{Do: finding.RegisterKey, Key: "a"}},
		{Summary: "a", Automatic: true, Action: finding.Action{Do: finding.RegisterKey, Key: "b"}},
		{Summary: "another way", Action: finding.Action{Do: finding.UseURL, URL: "https://x"}},
	}}
	locked := &finding.Way{Crux: finding.New(causes.KeyLocked, finding.Proved), Mends: key.Mends[2:3]}
	for i, row := range []struct {
		way  *finding.Way
		want finding.Action // nothing for none
	}{
		{key, key.Mends[2].Action}, {key, key.Mends[3].Action}, {locked, key.Mends[2].Action},
		{locked, finding.Action{}}, {key, key.Mends[4].Action}, {key, finding.Action{}},
	} {
		mend, found := tried.next(row.way, Person{})
		if a := mend.Action; found != (row.want.Do != "") || a.Do != row.want.Do || a.Key != row.want.Key {
			t.Errorf("%d: %+v, want %+v", i, a, row.want)
		}
	}
}
