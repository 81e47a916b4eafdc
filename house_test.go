package main

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"go/scanner"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// module is the path of this one.
const module = "anchorage.example/unicrux"

// rooms says which of our packages each may import: the most special prefix counts. What
// knows things does not speak, and what speaks knows nothing.
var rooms = map[string][]string{
	module: {module + "/cli", module + "/atonce"},
	module + "/atonce": {module + "/core/about",
		module + "/core/person", module + "/core/query",
		module + "/core/memory"},
	module + "/cli": {module + "/core", module + "/render",
		module + "/holder", module + "/standin", module + "/demo", module + "/docs/schemas"},
	module + "/holder":          {module + "/core"},
	module + "/render":          {module + "/core", module + "/render/document"},
	module + "/render/document": {},
	module + "/core":            {module + "/core"},
	module + "/standin":         {},
	module + "/demo":            {module + "/core", module + "/standin"},
	module + "/fixture": {module + "/core", module + "/demo", module + "/holder", module + "/standin",
		module + "/docs/schemas"},
}

// floors are the rooms of the diagnosis from the ground up: each imports those below it, and none above or beside it.
var floors = [][]string{
	{"core/causes"},
	{"core/diagnose/finding"},
	{"core/diagnose/localcheck"},
	{"core/diagnose/sshcheck", "core/diagnose/webcheck"},
	{"core/diagnose"},
}

// causesNeeds is all that the catalogue may know: nothing of it looks at anything.
var causesNeeds = []string{"core/allow", "core/lazyregexp", "core/redact", "core/untrusted"}

// TestAtOnceNeedsLittle: package unicode is prepared after those whose paths sort before it, so what needs it, such as
// package strings, keeps git waiting for nearly the whole program.
func TestAtOnceNeedsLittle(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "./atonce").Output()
	if err != nil {
		t.Fatal(err)
	}
	for name := range strings.Lines(string(out)) {
		if slices.Contains([]string{"unicode", "reflect", "fmt"}, strings.TrimSpace(name)) {
			t.Errorf("atonce needs %s", name)
		}
	}
}

// floor is where a room is; -1 for one that is not of the diagnosis.
func floor(room string) int {
	return slices.IndexFunc(floors, func(rooms []string) bool {
		return slices.Contains(rooms, strings.TrimPrefix(room, module+"/"))
	})
}

// above are the core's upper rooms, and which other rooms of the core may import each.
var above = map[string][]string{
	"core/diagnose": {"core/ready", "core/trial"},
	"core/ready":    nil,
	"core/look":     nil,
	"core/trial":    nil,
	"core/adopt":    nil,
	"core/renewal":  nil,
	"core/takeback": nil,
}

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
	inCore := strings.HasPrefix(from, module+"/core")
	for _, prefix := range silent {
		if inCore && strings.HasPrefix(imported, prefix) {
			return "the core does not speak"
		}
	}
	if !within(imported, module) {
		return ""
	}
	if at, other := floor(from), floor(imported); at >= 0 && other >= at && from != imported {
		return "a stage knows nothing of those behind it"
	}
	if from == module+"/core/causes" &&
		!slices.Contains(causesNeeds, strings.TrimPrefix(imported, module+"/")) {
		return "the catalogue looks at nothing"
	}
	if users, upper := above[strings.TrimPrefix(imported, module+"/")]; upper && inCore &&
		!slices.Contains(users, strings.TrimPrefix(from, module+"/")) {
		return "it stands above"
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
		{module + "/core/hosts", module + "/core/sshkey", false},
		{module + "/core/hosts", module + "/cli", true},
		{module + "/core/hosts", module + "/core/diagnose", true},
		{module + "/core/ready", module + "/core/diagnose", false},
		{module + "/core/hosts", "github.com/spf13/cobra", true},
		{module + "/standin", module + "/core/sshkey", true},
		{module + "/render", module + "/cli", true},
		{module + "/cli", module + "/render", false},
		{module, module + "/core/hosts", true},
	} {
		if got := misplaced(row.from, row.imported); (got != "") != row.wrong {
			t.Errorf("%s imports %s: %q", row.from, row.imported, got)
		}
	}
}

// readers may open files by package os: each has a reason.
var readers = []string{
	"core/regular",                  // looks whether a file is one
	"core/gitlink/pushing_linux.go", // files of /proc
	"core/peer/peer_linux.go",       // likewise
	"core/disk/disk.go",             // a folder, to sync it
	"core/person/socket_windows.go", // before anything else is ready
	"cli/ask.go",                    // a secret may come from a pipe or a device
	"cli/card.go",                   // the terminal
	"demo", "standin", "acceptance", "agreement", "fixture", "mutants",
	"messages", "calibration", // files of their own
}

// TestFilesAreReadInOnePlace: a pipe or a device in the place of a file must keep nobody waiting.
func TestFilesAreReadInOnePlace(t *testing.T) {
	eachFile(t, func(path, text string) {
		for _, call := range []string{"os.ReadFile(", "os.Open("} {
			if strings.Contains(text, call) && !isTest(path) && !isIn(path, readers) {
				t.Errorf("%s calls %s…): package regular reads files", path, call)
			}
		}
	})
}

// eachFile hands over every file of Go, by its path with slashes.
func eachFile(t *testing.T, look func(path, text string)) {
	t.Helper()
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		look(filepath.ToSlash(path), string(text))
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

func isTest(path string) bool { return strings.HasSuffix(path, "_test.go") }

func isIn(path string, rooms []string) bool {
	return slices.ContainsFunc(rooms, func(room string) bool { return within(path, room) })
}

// writers may change files by package os: each has a reason.
var writers = []string{
	"core/disk",                        // the one place that can fail on purpose
	"core/regular/regular.go",          // opens for reading
	"core/person/socket_windows.go",    // before anything else is ready
	"cli/practice.go",                  // the folder of the practice host
	"cli/credential.go", "cli/card.go", // the terminal
	"demo", "standin", "acceptance", "agreement", "fixture", "mutants", "messages", "calibration", // files of their own
}

// TestFilesAreChangedInOnePlace: so that every change can be made to fail, and nothing is lost then.
func TestFilesAreChangedInOnePlace(t *testing.T) {
	call := regexp.MustCompile(
		`\bos\.(Rename|WriteFile|OpenFile|Create|CreateTemp|Mkdir|MkdirAll|MkdirTemp|Remove|RemoveAll|Chmod|Chown|Link|Symlink|Truncate|Chtimes)\(`,
	)
	eachFile(t, func(path, text string) {
		if found := call.FindString(text); found != "" && !isTest(path) && !isIn(path, writers) {
			t.Errorf("%s calls %s…): package disk changes files", path, found)
		}
	})
}

// TestTheSameSourceIsTheSameProgram builds twice, from two folders, one of them no checkout.
func TestTheSameSourceIsTheSameProgram(t *testing.T) {
	t.Parallel()
	here, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	there := filepath.Join(t.TempDir(), "elsewhere", "with a space")
	if err := copySource(here, there); err != nil {
		t.Fatal(err)
	}
	var sums []string
	for _, folder := range []string{here, there} {
		out := filepath.Join(t.TempDir(), "unicrux")
		build := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags=-s -w", "-o", out, ".")
		build.Dir, build.Env = folder, append(os.Environ(), "CGO_ENABLED=0", "GOAMD64=v1", "PWD="+folder)
		if text, err := build.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, text)
		}
		program, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		sums = append(sums, fmt.Sprintf("%x", sha256.Sum256(program)))
	}
	if sums[0] != sums[1] {
		t.Errorf("%s here, %s elsewhere", sums[0], sums[1])
	}
	makefile, err := os.ReadFile("Makefile")
	if err != nil || !strings.Contains(string(makefile), "-buildvcs=false") ||
		!strings.Contains(string(makefile), "GOAMD64 = v1") {
		t.Errorf("make builds otherwise: %v", err)
	}
}

// copySource copies what a build reads.
func copySource(from, to string) error {
	return filepath.WalkDir(from, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rest, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		if entry.IsDir() {
			if name := entry.Name(); name == ".git" || name == "node_modules" || name == "screenshots" {
				return fs.SkipDir
			}
			return os.MkdirAll(filepath.Join(to, rest), 0o755)
		}
		if !entry.Type().IsRegular() || strings.HasPrefix(entry.Name(), "unicrux") {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(to, rest), text, 0o644)
	})
}

// TestDependenciesHaveReasons: docs/security.md says of each required module what it is for.
func TestDependenciesHaveReasons(t *testing.T) {
	modules, err := os.ReadFile("go.mod")
	if err != nil {
		t.Fatal(err)
	}
	reasons, err := os.ReadFile(filepath.Join("docs", "security.md"))
	if err != nil {
		t.Fatal(err)
	}
	direct, _, _ := strings.Cut(string(modules)[strings.Index(string(modules), "require ("):], ")")
	for line := range strings.Lines(direct) {
		if fields := strings.Fields(line); len(fields) == 2 && strings.Contains(fields[0], ".") &&
			!strings.Contains(string(reasons), "`"+fields[0]+"`") {
			t.Errorf("docs/security.md does not say what %s is for", fields[0])
		}
	}
}

// TestPackagesSayWhatTheyAre: the comment of a package is in doc.go, or in the file that bears its name.
func TestPackagesSayWhatTheyAre(t *testing.T) {
	t.Parallel()
	told, rooms := map[string]bool{}, map[string]bool{}
	eachFile(t, func(path, whole string) {
		folder, name := filepath.Split(path)
		room := filepath.Base(filepath.Clean(folder))
		if strings.HasSuffix(name, "_test.go") || folder == "" {
			return
		}
		rooms[folder] = true
		about, found := strings.CutPrefix(whole, "// Package "+room+" ")
		if name != "main.go" && name != "doc.go" && name != room+".go" {
			if found {
				t.Errorf("%s has the comment of its package", path)
			}
			return
		}
		if !found && name == "main.go" {
			about, found = strings.CutPrefix(whole, "// Command "+room+" ")
		}
		told[folder] = told[folder] || found && strings.Contains(about, ".")
	})
	for room := range rooms {
		if !told[room] {
			t.Errorf("%s does not say what it is", room)
		}
	}
}

// widest is how many columns a line of code may have, a tab counted for four, and longest how many lines a file.
const (
	widest  = 120
	longest = 430
)

// TestFilesCanBeRead: no file is longer than somebody reads at once, and no line is wide but where it holds one text
// that cannot be cut: a form, or a sentence of the catalogue.
func TestFilesCanBeRead(t *testing.T) {
	t.Parallel()
	text := regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.){50,}\"|" + "`[^`]{40,}") // no short ones
	eachFile(t, func(path, whole string) {
		lines := strings.Split(whole, "\n")
		if len(lines) > longest {
			t.Errorf("%s has %d lines", path, len(lines))
		}
		raw := textLines(whole)
		for i, line := range lines {
			columns := len([]rune(strings.ReplaceAll(line, "\t", "    ")))
			if columns > widest && !raw[i+1] && !text.MatchString(line) {
				t.Errorf("%s:%d has %d columns", path, i+1, columns)
			}
		}
	})
}

// textLines are the numbers of the lines that texts of several lines are on.
func textLines(source string) map[int]bool {
	lines, files := map[int]bool{}, token.NewFileSet()
	file := files.AddFile("", -1, len(source))
	var s scanner.Scanner
	s.Init(file, []byte(source), nil, 0)
	for {
		pos, kind, text := s.Scan()
		if kind == token.EOF {
			return lines
		}
		for i := range strings.Count(text, "\n") + 1 {
			lines[file.Line(pos)+i] = lines[file.Line(pos)+i] || kind == token.STRING && strings.Contains(text, "\n")
		}
	}
}
