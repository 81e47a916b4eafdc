// Command mutants plants the faults of a list into the core, one at a time, and says which of them the tests notice:
// those of the room itself, as the list names them. It changes no file: the compiler is given the faulty one in its
// place (the flag -overlay of go build).
//
//	go run ./mutants mutants/faults.txt [words of the faults to plant]
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// A fault is one line of the list: a text of a file, and what is put in its place.
type fault struct {
	file, tests string
	words       string // what is wrong then
	from, to    string
}

func main() {
	faults, err := read(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	killed, survived, broken := 0, 0, 0
	for _, f := range faults {
		if wanted := os.Args[2:]; len(wanted) > 0 &&
			!slices.ContainsFunc(wanted, func(word string) bool { return strings.Contains(f.file+" "+f.words, word) }) {
			continue
		}
		start := time.Now()
		noticed, err := plant(f)
		switch took := time.Since(start).Round(time.Second / 10); {
		case err != nil:
			broken++
			fmt.Printf("NOT BUILT %6s  %s: %s: %v\n", took, f.file, f.words, err)
		case noticed:
			killed++
			fmt.Printf("killed    %6s  %s: %s\n", took, f.file, f.words)
		default:
			survived++
			fmt.Printf("SURVIVED  %6s  %s: %s\n", took, f.file, f.words)
		}
	}
	fmt.Printf("%d planted, %d killed, %d survived\n", killed+survived, killed, survived)
	if survived*10 > killed+survived || broken > 0 { // nine of ten are to be noticed
		os.Exit(1)
	}
}

// read reads the list: "== FILE TESTS", a line that says what is wrong, "- " and the text, "+ " and what comes in its
// place; several lines of a text each have their mark.
func read(path string) ([]fault, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var list []fault
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSuffix(line, "\n")
		var last *fault
		if len(list) > 0 {
			last = &list[len(list)-1]
		}
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
		case strings.HasPrefix(line, "== "):
			file, tests, _ := strings.Cut(line[3:], " ")
			list = append(list, fault{file: file, tests: tests})
		case strings.HasPrefix(line, "- "):
			last.from += line[2:] + "\n"
		case strings.HasPrefix(line, "+ "):
			last.to += line[2:] + "\n"
		default:
			last.words = line
		}
	}
	for i, f := range list {
		list[i].from, list[i].to = strings.TrimSuffix(f.from, "\n"), strings.TrimSuffix(f.to, "\n")
	}
	return list, nil
}

// plant runs the tests of a room with a fault in it.
func plant(f fault) (noticed bool, err error) {
	text, err := os.ReadFile(f.file)
	if err != nil {
		return false, err
	}
	if n := strings.Count(string(text), f.from); n != 1 {
		return false, fmt.Errorf("the text is there %d times", n)
	}
	folder, err := os.MkdirTemp("", "mutant-")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(folder) // a temporary folder
	faulty, overlay := filepath.Join(folder, "faulty.go"), filepath.Join(folder, "overlay.json")
	at, err := filepath.Abs(f.file)
	if err != nil {
		return false, err
	}
	replace, err := json.Marshal(map[string]map[string]string{"Replace": {at: faulty}})
	if err == nil {
		err = os.WriteFile(faulty, []byte(strings.Replace(string(text), f.from, f.to, 1)), 0o600)
	}
	if err == nil {
		err = os.WriteFile(overlay, replace, 0o600)
	}
	if err != nil {
		return false, err
	}
	environ := append(os.Environ(), "GOFLAGS="+os.Getenv("GOFLAGS")+" -overlay="+overlay)
	build := exec.Command("go", "build", "./"+filepath.Dir(f.file))
	build.Env = environ
	if out, err := build.CombinedOutput(); err != nil {
		return false, fmt.Errorf("it does not build: %s", out)
	}
	test := exec.Command("go", append([]string{"test", "-vet=off", "-timeout", "2m"}, strings.Fields(f.tests)...)...)
	test.Env = environ
	return test.Run() != nil, nil
}
