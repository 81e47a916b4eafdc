package main

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"strings"
	"testing"
)

// rooms says which of our packages each may import: the most special prefix counts. What
// knows things does not speak, and what speaks knows nothing.
var rooms = map[string][]string{
	"Unicrux":         {"Unicrux/cli", "Unicrux/atonce"},
	"Unicrux/atonce":  {"Unicrux/core/person", "Unicrux/core/query", "Unicrux/core/memory"},
	"Unicrux/cli":     {"Unicrux/core", "Unicrux/render", "Unicrux/holder", "Unicrux/standin", "Unicrux/demo"},
	"Unicrux/holder":  {"Unicrux/core"},
	"Unicrux/render":  {"Unicrux/core"},
	"Unicrux/core":    {"Unicrux/core"},
	"Unicrux/standin": {},
	"Unicrux/demo":    {"Unicrux/core", "Unicrux/standin"},
}

// above lists the core's upper rooms, which no other room of the core may import.
var above = []string{"Unicrux/core/diagnose", "Unicrux/core/ready", "Unicrux/core/look"}

// silent lists what the core must not import: it has no flags, no prompts and no exits.
var silent = []string{"github.com/spf13", "golang.org/x/term", "github.com/mattn/go-runewidth"}

func TestImportsPointOneWay(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for {
		var room struct {
			ImportPath string
			Imports    []string
		}
		if err := decoder.Decode(&room); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		seen++
		for _, imported := range room.Imports {
			if wrong := misplaced(room.ImportPath, imported); wrong != "" {
				t.Errorf("%s imports %s: %s", room.ImportPath, imported, wrong)
			}
		}
	}
	if seen < 10 {
		t.Fatalf("only %d rooms were looked at", seen)
	}
}

// misplaced says why one package may not import another, or nothing.
func misplaced(from, imported string) string {
	inCore := strings.HasPrefix(from, "Unicrux/core")
	for _, prefix := range silent {
		if inCore && strings.HasPrefix(imported, prefix) {
			return "the core does not speak"
		}
	}
	if !within(imported, "Unicrux") {
		return ""
	}
	for _, upper := range above {
		if inCore && imported == upper && (from != "Unicrux/core/ready" || upper == from) {
			return "it stands above"
		}
	}
	for prefix := from; ; prefix = prefix[:max(0, strings.LastIndexByte(prefix, '/'))] {
		allowed, found := rooms[prefix]
		if !found && prefix != "" {
			continue
		}
		for _, room := range allowed {
			if within(imported, room) {
				return ""
			}
		}
		return "it may not"
	}
}

func within(path, room string) bool { return path == room || strings.HasPrefix(path, room+"/") }

func TestMisplacedSeesWrongImports(t *testing.T) {
	for _, row := range []struct {
		from, imported string
		wrong          bool
	}{
		{"Unicrux/core/hosts", "Unicrux/core/sshkey", false},
		{"Unicrux/core/hosts", "Unicrux/cli", true},
		{"Unicrux/core/hosts", "Unicrux/core/diagnose", true},
		{"Unicrux/core/ready", "Unicrux/core/diagnose", false},
		{"Unicrux/core/hosts", "github.com/spf13/cobra", true},
		{"Unicrux/standin", "Unicrux/core/sshkey", true},
		{"Unicrux/render", "Unicrux/cli", true},
		{"Unicrux/cli", "Unicrux/render", false},
		{"Unicrux", "Unicrux/core/hosts", true},
	} {
		if got := misplaced(row.from, row.imported); (got != "") != row.wrong {
			t.Errorf("%s imports %s: %q", row.from, row.imported, got)
		}
	}
}
