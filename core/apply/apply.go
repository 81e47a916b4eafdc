package apply

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// A Part is what can be settled alone.
type Part string

// The parts.
const (
	Host   Part = "host"   // descriptions, and how ssh reaches their hosts
	Trust  Part = "trust"  // keys of hosts, trusted and distrusted
	Git    Part = "git"    // settings of git's
	Policy Part = "policy" // what is asked of keys and tokens
	record Part = "record" // what was applied; never without the others
)

// Parts lists them.
func Parts() []string { return []string{string(Host), string(Trust), string(Git), string(Policy)} }

// Places are where a machine keeps what holds for everybody.
type Places struct {
	Machine string // ours: /etc/unicrux
	SSH     string // the ssh client's: /etc/ssh
	Git     string // git's file: /etc/gitconfig
}

// Here are the places of this machine.
func Here(station *workstation.Station) Places {
	return Places{Machine: station.Machine, SSH: sshconfig.SystemFolder(), Git: gitlink.MachineFile}
}

func (p Places) hostKeys() string { return filepath.Join(p.SSH, "ssh_known_hosts") }
func (p Places) marks() string    { return filepath.Join(p.Machine, "applied.json") }

// Options say how a state is applied.
type Options struct {
	Places  Places
	Program string // this program, in full: settings of ssh and git name it
	Only    []Part // none for all
}

// A Status says what became of a thing.
type Status string

// The statuses.
const (
	OK          Status = "ok" // as it is declared already
	Changed     Status = "changed"
	WouldChange Status = "would-change"
	Overruled   Status = "overruled" // it is there, and lines of others win over it
	Left        Status = "left"      // no longer declared, but edited since, so it stays
)

// A Thing is a file of the state.
type Thing struct {
	Part   Part
	Name   string // of a host; empty for others
	Path   string
	Line   int // by which it is overruled; 0 for none
	Status Status
	Why    string // by what it is overruled
}

// IsNote tells that it is what we note for ourselves of what was applied.
func (t Thing) IsNote() bool { return t.Part == record }

// A Diff is what was, or would be, changed in a file. Secrets of others are masked in it.
type Diff struct {
	Path          string
	Before, After []byte
}

// A Result is what became of a state.
type Result struct {
	Things []Thing
	Diffs  []Diff
}

// Moves tells whether anything was changed, or would be.
func (r Result) Moves() bool {
	return slices.ContainsFunc(r.Things, func(t Thing) bool { return t.Status == Changed || t.Status == WouldChange })
}

// Errors.
var (
	// ErrNotRoot is returned by [Apply] for somebody who cannot change the machine's own files.
	ErrNotRoot = fault.New("root-needed", fault.Refused, "only root can change this machine's own files")
	// ErrRecord is returned by [Apply] where others can write the record of changes: undo would do for them what only
	// root may.
	ErrRecord = fault.New("record-open", fault.Refused,
		"others than root can write the folder in which this change would be recorded")
	// ErrLink is returned where a link is in the place of a file of ours: it may lead anywhere.
	ErrLink = fault.New("file-is-link", fault.Refused, "it is a link, and the files of Unicrux are none")
	// ErrOpen is returned where others can write a folder in which root would write.
	ErrOpen = fault.New("folder-open", fault.Refused, "others than root can write this folder")
	// ErrMarks is returned where the marks around our lines in a file of others do not fit.
	ErrMarks = fault.New("marks-broken", fault.Refused, "the marks around the lines of Unicrux do not fit")
)

// Apply settles this machine as a state declares. Everything is read and understood before the first file is changed.
// Where one cannot be changed, the error says which; those before it are recorded, and the next run goes on.
func Apply(ctx context.Context, batch *workstation.Batch, station *workstation.Station, state *declared.State,
	o Options) (Result, error) {
	var r Result
	files, err := plan(ctx, station, state, o)
	if err != nil {
		return r, err
	}
	if err := mayWrite(batch, station, o.Places); err != nil {
		return r, err
	}
	for _, f := range files {
		if info, err := os.Lstat(f.path); err == nil && f.isOurs && info.Mode()&fs.ModeSymlink != 0 {
			return r, fmt.Errorf("%s: %w", f.path, ErrLink)
		}
	}
	batch.Shared = true
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return r, err
		}
		thing, diff, err := f.settle(batch)
		if err != nil {
			return r, fmt.Errorf("%s: %w", f.path, withoutPath(err))
		}
		r.Things = append(r.Things, thing)
		if diff != nil {
			r.Diffs = append(r.Diffs, *diff)
		}
	}
	if !batch.Dry || !r.Moves() {
		r.overruled(station, o.Places)
	}
	return r, nil
}

// mayWrite makes sure that this is somebody who may change the files, and that nobody else can write the record by
// which undo does so again.
func mayWrite(batch *workstation.Batch, station *workstation.Station, p Places) error {
	switch {
	case batch.Dry || station.UID < 0:
		return nil
	case station.UID > 0 && !station.Owns(existing(p.Machine)):
		return fmt.Errorf("%w: %s", ErrNotRoot, p.Machine)
	case !station.Trusted(existing(station.State)):
		return fmt.Errorf("%s: %w", station.State, ErrRecord)
	}
	for _, dir := range []string{filepath.Join(p.Machine, "hosts"), filepath.Join(p.SSH, "ssh_config.d"), p.SSH,
		filepath.Dir(p.Git)} {
		if dir = existing(dir); !station.Trusted(dir) {
			return fmt.Errorf("%s: %w", dir, ErrOpen)
		}
	}
	return nil
}

// existing is a folder, or the nearest one above it that is there.
func existing(dir string) string {
	for dir != filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		dir = filepath.Dir(dir)
	}
	return dir
}

// withoutPath leaves out the path that the system puts before an error: it is said already.
func withoutPath(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

// overruled marks the things that are there and over which lines of others win.
func (r *Result) overruled(station *workstation.Station, p Places) {
	for _, d := range overruled(station, p) {
		for i, t := range r.Things {
			if t.Path == d.Path && (t.Name == "" || t.Name == d.Name) && t.Status != Changed {
				r.Things[i].Status, r.Things[i].Why, r.Things[i].Line = Overruled, d.By, d.Line
			}
		}
		if !slices.ContainsFunc(r.Things, func(t Thing) bool { return t.Path == d.Path && t.Status == Overruled }) {
			r.Things = append(r.Things, Thing{Part: d.Part, Name: d.Name, Path: d.Path, Line: d.Line,
				Status: Overruled, Why: d.By})
		}
	}
}

// A file is one that is to be as declared.
type file struct {
	part    Part
	name    string // of a host
	path    string
	summary string
	// makes the content out of what is there; nil means that there is to be no file
	compute func(old []byte) ([]byte, error)
	isOurs  bool   // all of it
	isGit   bool   // git locks it in its own way
	unless  string // the file stays where its SHA-256 is another one: somebody edited it; empty for whatever it is
}

// settle makes a file what it is to be.
func (f file) settle(batch *workstation.Batch) (Thing, *Diff, error) {
	thing := Thing{Part: f.part, Name: f.name, Path: f.path, Status: OK}
	if f.compute == nil {
		return f.remove(batch, thing)
	}
	diff := &Diff{Path: f.path}
	compute := func(old []byte) ([]byte, error) {
		content, err := f.compute(old)
		if err == nil && !bytes.Equal(old, content) { // else looking for secrets would cost the most
			diff.Before, diff.After = redact.Mask(old), redact.Mask(content)
		}
		return content, err
	}
	change := func() (bool, error) { return batch.Edit(f.path, f.summary, 0o644, compute) }
	if f.isGit {
		change = func() (bool, error) {
			return gitlink.ChangeText(batch, gitlink.EditOf{Path: f.path, Words: f.summary, Mode: 0o644}, compute)
		}
	}
	changed, err := change()
	if err != nil || !changed {
		return thing, nil, err
	}
	thing.Status = moved(batch)
	return thing, diff, nil
}

func moved(batch *workstation.Batch) Status {
	if batch.Dry {
		return WouldChange
	}
	return Changed
}

// remove takes a file away that is not declared any more.
func (f file) remove(batch *workstation.Batch, thing Thing) (Thing, *Diff, error) {
	text, err := readOf(f.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return thing, nil, nil
	case err != nil:
		return thing, nil, err
	case f.unless != "" && f.unless != hashOf(text):
		thing.Status = Left
		return thing, nil, nil
	}
	thing.Status = moved(batch)
	return thing, &Diff{Path: f.path, Before: redact.Mask(text)}, batch.Remove(f.path, f.summary)
}

// whole is what makes a file that is ours.
func whole(text []byte) func([]byte) ([]byte, error) {
	return func([]byte) ([]byte, error) { return bytes.Clone(text), nil }
}
