package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestTable(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"a.json": `{"causes":[{"code":"key-none","likelihood":0.9}]}`,
		"b.json": `{"causes":[{"code":"key-none","likelihood":0.9},{"code":"key-locked","likelihood":0.1}]}`,
		"c.json": `{"causes":[]}`, "d.json": `{"causes":[{"code":"key-none","likelihood":1}]}`,
		"verdicts.tsv": "a\tyes\tright\t\tkey-none\nb\tyes\tWRONG\t\tkey-locked\nc\tno\tright\t\tx\nd\tno\tright\t\t?key-none,y\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	answers, err := read(dir)
	if err != nil || len(answers) != 3 {
		t.Fatalf("%v, %v", answers, err)
	}
	var out strings.Builder
	write(&out, answers)
	for _, want := range []string{" 85- 93 %      2   50 %   90 %", " 93-100 %      1  100 %  100 %"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is not in\n%s", want, out.String())
		}
	}
	if _, err := read(t.TempDir()); err == nil {
		t.Error("no verdicts, and no error")
	}
}
