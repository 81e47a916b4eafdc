package chest

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/lockfile"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// lockPatience bounds the wait for other programs that change the chest.
const lockPatience = time.Minute

// maxFile bounds one entry's file.
const maxFile = 1 << 20

// A file is what stands in the file of an entry.
type file struct {
	Format format          `json:"format"`
	Entry  json.RawMessage `json:"entry"`
	Sum    string          `json:"sum"` // SHA-256 of the entry, by which damage is seen
	Sealed []byte          `json:"sealed,omitempty"`
}

// hostFolder is where the marks of the entries for a protocol and a host are.
func (c *Chest) hostFolder(protocol, at string) string {
	return filepath.Join(c.folder, "hosts", url.QueryEscape(protocol+" "+allow.LowerHost(at)))
}

// path is the file of an entry.
func (c *Chest) path(name string) string { return c.entryFile(url.QueryEscape(name)) }

// entryFile is that file by the name as it stands in file names.
func (c *Chest) entryFile(name string) string {
	return filepath.Join(c.folder, "entries", name+".json")
}

// mark is a file with nothing in it by which an entry is found for its host. It is there before
// the entry and after it: one without an entry is passed over.
func (c *Chest) mark(e Entry) string {
	return filepath.Join(c.hostFolder(e.Protocol, e.At), url.QueryEscape(e.Name))
}

// read reads the file of an entry.
func read(path string) (e Entry, err error) {
	text, err := regular.ReadOwn(path, maxFile)
	if err != nil {
		if errors.Is(err, regular.ErrNot) || errors.Is(err, regular.ErrTooLarge) {
			err = fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		return e, err
	}
	if e, err = parse(text); err == nil && filepath.Base(path) != url.QueryEscape(e.Name)+".json" {
		err = ErrDamaged
	}
	if err != nil {
		return e, fmt.Errorf("%w: %s", err, path)
	}
	return e, nil
}

// parse reads what [Chest.write] wrote. The error is [ErrDamaged], [ErrOlder] or [ErrNewer].
func parse(text []byte) (e Entry, err error) {
	var content file
	if json.Unmarshal(text, &content) != nil {
		return e, ErrDamaged
	}
	if err := content.Format.of(content.Sum != ""); err != nil {
		return e, err
	}
	if json.Unmarshal(content.Entry, &e) != nil || sum(content.Entry) != content.Sum || e.check() != nil {
		return e, ErrDamaged
	}
	e.sealed = content.Sealed
	return e, nil
}

func sum(text []byte) string {
	digest := sha256.Sum256(text)
	return hex.EncodeToString(digest[:])
}

func (c *Chest) write(e Entry, sealed []byte) error {
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	content, err := json.Marshal(file{version, text, sum(text), sealed})
	if err != nil {
		return err
	}
	path, mark := c.path(e.Name), c.mark(e)
	if err := errors.Join(disk.MkdirAll(filepath.Dir(path), 0o700),
		disk.MkdirAll(filepath.Dir(mark), 0o700)); err != nil {
		return err
	}
	if err := disk.WriteFile(mark, nil, 0o600); err != nil {
		return err
	}
	if err := disk.SyncFolder(filepath.Dir(mark)); err != nil { // by it the entry is found, so it is there first
		return err
	}
	return workstation.Replace(path, append(content, '\n'), 0o600)
}

// change lets one program at a time change the chest. Reading waits for nobody.
func (c *Chest) change(do func() error) error {
	return workstation.AsOwner(c.folder, func() error { return c.changeAsOwner(do) })
}

func (c *Chest) changeAsOwner(do func() error) error {
	if err := disk.MkdirAll(c.folder, 0o700); err != nil {
		return err
	}
	unlock, err := lockfile.Take(filepath.Join(c.folder, "lock"), lockfile.Wait{Most: lockPatience, Stop: c.stop})
	if errors.Is(err, lockfile.ErrHeld) {
		return ErrBusy
	}
	if err != nil {
		return err
	}
	defer unlock() // the lock ends with the process at the latest
	done, err := workstation.MayLeave(filepath.Dir(c.seen),
		workstation.Leaving{Beside: []string{c.folder, filepath.Join(c.folder, "entries")}})
	if err != nil {
		return err
	}
	defer done()
	if err := do(); err != nil {
		return err
	}
	return c.advance()
}

// SetAside moves the files that are damaged out of the way, and tells where they lie now: entries
// that cannot be read, those whose secret is damaged or for something else, as far as the chest is
// open, and the key file where both its copies are damaged. Every other entry stays as it is.
func (c *Chest) SetAside(now time.Time) (aside []string, err error) {
	_, keyErr := c.key()
	return aside, c.change(func() error {
		move := func(path string) error {
			to := filepath.Join(c.folder, filepath.Base(path)+".damaged-"+now.Format("2006-01-02-150405"))
			err := disk.Rename(path, to)
			if err == nil {
				aside = append(aside, to)
			}
			return err
		}
		if errors.Is(keyErr, ErrDamaged) {
			for _, path := range c.keyPaths() {
				if err := move(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
			}
		}
		files, err := os.ReadDir(filepath.Join(c.folder, "entries"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, f := range files {
			path := filepath.Join(c.folder, "entries", f.Name())
			e, err := read(path)
			if err == nil && e.Kind == Sealed {
				_, err = c.Get(e)
			}
			if !errors.Is(err, ErrDamaged) && !errors.Is(err, ErrSwapped) {
				continue
			}
			if err := move(path); err != nil {
				return err
			}
		}
		return nil
	})
}
