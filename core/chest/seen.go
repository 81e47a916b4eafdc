package chest

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// A sight is what this computer last saw of a chest. It lies outside the chest's folder: whoever can
// write there (where it is synchronised, or restored from a backup) cannot change this.
type sight struct {
	Format     format `json:"format"`
	Folder     string `json:"folder"`
	Recipient  string `json:"sealed_to,omitempty"` // who opens the chest, as it was seen when it was opened
	Generation int64  `json:"generation"`          // how often the chest had been changed
}

// generationFile is the count of changes in the chest's own folder.
type generationFile struct {
	Format     format `json:"format"`
	Generation int64  `json:"generation"`
}

func seenFile(state, folder string) string {
	sum := sha256.Sum256([]byte(folder))
	return filepath.Join(state, "chest-"+hex.EncodeToString(sum[:8])+".json")
}

// lastSeen reads what this computer saw. Where that cannot be read, nothing was seen.
func (c *Chest) lastSeen() (sight, error) {
	s := sight{Format: version, Folder: c.folder}
	text, err := regular.ReadOwn(c.seen, maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	read := s
	if json.Unmarshal(text, &read) != nil || read.Folder != c.folder {
		return s, nil
	}
	if read.Format > version {
		return s, fmt.Errorf("%w: %s", ErrNewer, c.seen)
	}
	return read, nil
}

func (c *Chest) note(s sight) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return workstation.AsOwner(c.seen, func() error {
		if err := disk.MkdirAll(filepath.Dir(c.seen), 0o700); err != nil {
			return err
		}
		done, err := workstation.MayLeave(filepath.Dir(c.seen),
			workstation.Leaving{Beside: []string{filepath.Dir(c.seen)}})
		if err != nil {
			return err
		}
		defer done()
		return workstation.Replace(c.seen, append(text, '\n'), 0o600)
	})
}

// see notes who opens the chest.
func (c *Chest) see(recipient string) error {
	s, err := c.lastSeen()
	if err != nil || s.Recipient == recipient {
		return err
	}
	s.Recipient = recipient
	return c.note(s)
}

func (c *Chest) generationPath() string { return filepath.Join(c.folder, "generation.json") }

// generation is how often the chest was changed, as its folder tells.
func (c *Chest) generation() int64 {
	var g generationFile
	text, err := regular.ReadOwn(c.generationPath(), maxFile)
	if err != nil || json.Unmarshal(text, &g) != nil {
		return 0
	}
	return g.Generation
}

// advance counts a change, in the folder and outside. The caller holds the lock.
func (c *Chest) advance() error {
	s, err := c.lastSeen()
	if err != nil {
		return err
	}
	s.Generation = max(s.Generation, c.generation()) + 1
	text, err := json.Marshal(generationFile{version, s.Generation})
	if err != nil {
		return err
	}
	if err := workstation.Replace(c.generationPath(), append(text, '\n'), 0o600); err != nil {
		return err
	}
	return c.note(s)
}

// RolledBack tells whether the folder is older than this computer last saw it: a backup was put in
// its place, or somebody put it back. That a single file in it is older cannot be seen.
func (c *Chest) RolledBack() bool {
	s, err := c.lastSeen()
	return err == nil && c.generation() < s.Generation
}
