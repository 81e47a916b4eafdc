package accounts

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/identity"
)

// TestOf reads lists of accounts as they are found on machines: services, doubles and damaged lines are none.
func TestOf(t *testing.T) {
	t.Parallel()
	homes := of([]byte(`root:x:0:0:root:/root:/bin/bash
daemon:x:1:1::/usr/sbin:/usr/sbin/nologin
mo:x:1002:1002::/home/mo:/bin/sh
ines:x:1001:100:Ines:/home/ines/:/bin/bash
twice:x:1003:1003::/home/mo:/bin/sh
nobody:x:65534:65534::/nonexistent:/usr/sbin/nologin
odd:x:many:1::/home/odd:/bin/sh
short:x:1004
loose:x:1005:1005::home/loose:/bin/sh
all:x:1006:1006::/:/bin/sh
#ines:x:1009:1009::/home/hash:/bin/sh
`), []byte("buoys:x:2000:"+strings.Repeat("somebody,", 20_000)+"ines,mo\nempty:x:2001:\nodd:x:none:ines\nlab:x:2002:ines\n"))
	want := []Home{
		{Person: "ines", Path: "/home/ines", Who: identity.Who{UID: 1001, GID: 100, Groups: []int{2000, 2002}}},
		{Person: "mo", Path: "/home/mo", Who: identity.Who{UID: 1002, GID: 1002, Groups: []int{2000}}},
		{Person: "root", Path: "/root"},
	}
	if got := fmt.Sprint(homes); got != fmt.Sprint(want) {
		t.Errorf("got  %s\nwant %v", got, want)
	}
}

// TestAbandoned: a folder beside the homes whose owner has no account is somebody's who is gone.
func TestAbandoned(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Log("only root can give folders away; CI is root")
		return
	}
	base := t.TempDir()
	for name, uid := range map[string]int{"ines": 1001, "gone": 1777, "service": 33, "other-of-ines": 1001} {
		path := filepath.Join(base, name)
		if err := os.Mkdir(path, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(path, uid, uid); err != nil {
			t.Fatal(err)
		}
	}
	found := abandoned([]Home{{Person: "ines", Path: filepath.Join(base, "ines"), Who: identity.Who{UID: 1001}}})
	if len(found) != 1 || found[0].Path != filepath.Join(base, "gone") || found[0].Who.UID != 1777 {
		t.Errorf("%+v", found)
	}
}
