package chest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"Unicrux/core/allow"
	"Unicrux/core/workstation"
)

// lockPatience bounds the wait for other programs that change the chest.
const lockPatience = time.Minute

// maxFile bounds one entry's file.
const maxFile = 1 << 20

// A file is what stands in the file of an entry.
type file struct {
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
	f, err := os.Open(path)
	if err != nil {
		return e, err
	}
	defer f.Close() //nolint:errcheck // opened for reading
	text, err := io.ReadAll(io.LimitReader(f, maxFile))
	if err != nil {
		return e, err
	}
	e, ok := parse(text)
	if !ok || filepath.Base(path) != url.QueryEscape(e.Name)+".json" {
		return e, fmt.Errorf("%w: %s", ErrDamaged, path)
	}
	return e, nil
}

// parse reads what [Chest.write] wrote; ok is false for anything else.
func parse(text []byte) (e Entry, ok bool) {
	var content file
	ok = json.Unmarshal(text, &content) == nil && json.Unmarshal(content.Entry, &e) == nil && sum(content.Entry) == content.Sum && e.check() == nil
	e.sealed = content.Sealed
	return e, ok
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
	content, err := json.Marshal(file{text, sum(text), sealed})
	if err != nil {
		return err
	}
	path, mark := c.path(e.Name), c.mark(e)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.MkdirAll(filepath.Dir(mark), 0o700)); err != nil {
		return err
	}
	if err := os.WriteFile(mark, nil, 0o600); err != nil {
		return err
	}
	return workstation.Replace(path, append(content, '\n'), 0o600)
}

// change lets one program at a time change the chest. Reading waits for nobody.
func (c *Chest) change(do func() error) error {
	if err := os.MkdirAll(c.folder, 0o700); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(c.folder, "lock"), flock.SetPermissions(0o600))
	ctx, cancel := context.WithTimeout(context.Background(), lockPatience)
	defer cancel()
	if locked, err := lock.TryLockContext(ctx, 5*time.Millisecond); err != nil || !locked {
		if errors.Is(err, fs.ErrPermission) {
			return err
		}
		return ErrBusy
	}
	defer lock.Unlock() //nolint:errcheck // the lock ends with the process at the latest
	return do()
}

// SetAside moves the files that are damaged out of the way, and tells where they lie now. Every
// other entry stays as it is.
func (c *Chest) SetAside(now time.Time) (aside []string, err error) {
	return aside, c.change(func() error {
		files, err := os.ReadDir(filepath.Join(c.folder, "entries"))
		if err != nil {
			return err
		}
		for _, f := range files {
			path := filepath.Join(c.folder, "entries", f.Name())
			if _, err := read(path); !errors.Is(err, ErrDamaged) {
				continue
			}
			to := filepath.Join(c.folder, filepath.Base(path)+".damaged-"+now.Format("2006-01-02-150405"))
			if err := os.Rename(path, to); err != nil {
				return err
			}
			aside = append(aside, to)
		}
		return nil
	})
}
