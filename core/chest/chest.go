// Package chest keeps secrets: tokens for hosts, with what is known about each. What is known
// can be found without opening anything; the secrets themselves are sealed.
//
// A [Chest] is a folder with a file for each entry, and a folder for each host with marks that
// name its entries: so finding one takes as long whether there are ten or ten thousand, writing
// one is a rename, and a damaged file costs that one alone. Where the secrets are is told by the
// [Kind] of each entry: in its file, sealed with age (the format age-encryption.org/v1); with the
// desktop's secret service; or in the memory of the holder alone.
package chest

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/workstation"
)

// Reasons for which a [Chest] does not give or take a secret, or is not opened, for errors.Is.
var (
	ErrNone    = errors.New("the chest has no such entry")
	ErrClosed  = fault.New("chest-closed", fault.Unasked, "the chest is closed")
	ErrNoChest = fault.New("chest-no-chest", fault.Refused, "there is no chest yet")
	ErrDamaged = fault.New("chest-damaged", fault.Failed, "the file of the chest is damaged")
	ErrLost    = fault.New("chest-lost", fault.Refused, "the chest lists the entry, but its secret is missing")
	ErrWrong   = fault.New("chest-passphrase-wrong", fault.Refused, "this passphrase does not open the chest")
	ErrBusy    = fault.New("chest-busy", fault.Failed, "another program holds the chest")

	// ErrSwapped is returned for an entry whose secret was sealed for something else: whoever could
	// write in the chest's folder made it look as if it were for this.
	ErrSwapped = fault.New("chest-swapped", fault.Failed, "this file was changed outside Unicrux: its secret was stored for another entry")
	// ErrSeal is returned where new secrets would be sealed to somebody else than who opens the chest.
	ErrSeal = fault.New("chest-seal", fault.Failed,
		"the chest's key file was changed outside Unicrux: it names another recipient than the passphrase opens",
	)
	// ErrNewer is returned for a file that a newer version of Unicrux wrote. It is left as it is.
	ErrNewer = fault.New("chest-newer", fault.Failed, "a newer version of Unicrux wrote this file")
	// ErrOlder is an [ErrDamaged] for a file from before a secret was sealed together with what it is for:
	// nobody can tell any more whether it was moved to another entry.
	ErrOlder = fault.Under(ErrDamaged, "chest-older", fault.Failed,
		"an older version of Unicrux wrote this file, in another format")
	// ErrLarge is returned for a secret that is larger than any.
	ErrLarge = errors.New("too large for a secret")
)

// A Chest is the folder.
type Chest struct {
	folder string
	stop   <-chan struct{}               // nobody waits for the chest any longer once it is closed
	seen   string                        // the file in which this computer notes what it saw of the folder
	socket string                        // of the chest's door
	opener opener                        // for this process alone; nil as long as nobody gave the passphrase
	recall *recall                       // nil in a process that does not live long
	work   int                           // how hard a passphrase is to guess; 0 for as hard as the library makes it
	rules  func() (policy.Policy, error) // the machine's policy; nil where none counts
}

// Of returns the chest of a workstation, which may not be there yet.
func Of(station *workstation.Station) *Chest {
	folder := filepath.Join(station.Data, "chest")
	return &Chest{folder: folder, stop: station.Stop, seen: seenFile(station.State, folder),
		socket: station.DoorSocket(), work: passphraseWork,
		rules: func() (policy.Policy, error) { return policy.Read(station) }}
}

// Easy makes the passphrases that are set from now on easy to guess and quick to try: for tests alone.
func (c *Chest) Easy() *Chest {
	c.work = 1
	return c
}

// Folder is where the files are.
func (c *Chest) Folder() string { return c.folder }

// List lists all entries, by name, and with [ErrDamaged] those that can be read.
func (c *Chest) List() ([]Entry, error) {
	files, err := os.ReadDir(filepath.Join(c.folder, "entries"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, f := range files {
		if name, found := strings.CutSuffix(f.Name(), ".json"); found {
			names = append(names, name)
		}
	}
	list, err := c.named(names)
	slices.SortFunc(list, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return list, err
}

// named reads entries by their names as they stand in file names.
func (c *Chest) named(names []string) ([]Entry, error) {
	var list []Entry
	var damaged error // and what a newer version wrote
	for _, name := range names {
		e, err := read(c.entryFile(name))
		switch {
		case errors.Is(err, fs.ErrNotExist): // removed meanwhile, or not there yet
		case errors.Is(err, ErrDamaged), errors.Is(err, ErrNewer):
			damaged = errors.Join(damaged, err)
		case err != nil:
			return nil, err
		default:
			list = append(list, e)
		}
	}
	return list, damaged
}

// At lists the entries for a protocol and a host, however many others there are. They bring
// their secrets, sealed, so that [Chest.Get] reads no file twice: git waits for it.
func (c *Chest) At(protocol, at string) ([]Entry, error) {
	folder := c.hostFolder(protocol, at)
	if list, ok := c.recall.find(folder); ok {
		return list, nil
	}
	files := []stamp{c.recall.look(folder)}
	marks, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, mark := range marks {
		names = append(names, mark.Name())
		files = append(files, c.recall.look(c.entryFile(mark.Name())))
	}
	list, err := c.named(names)
	list = slices.DeleteFunc(list, func(e Entry) bool { return e.Protocol != protocol || !allow.SameHost(e.At, at) })
	if err == nil {
		c.recall.keep(folder, listing{list, files})
	}
	return list, err
}

// Entry returns one by its name.
func (c *Chest) Entry(name string) (Entry, error) {
	e, err := c.entry(name)
	e.sealed = nil // [Chest.Get] is to look at the file as it is then
	return e, err
}

// entry is [Chest.Entry] with the secret as it is sealed.
func (c *Chest) entry(name string) (Entry, error) {
	e, err := read(c.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		err = ErrNone
	}
	return e, err
}

// Put keeps a secret under the name of its entry, in place of an earlier one of that name. No
// passphrase is needed for it. It returns the entry as it is kept: one that was read before has the
// secret from before.
func (c *Chest) Put(e Entry, s Secret) (Entry, error) {
	return c.put(e, s, func(string) (string, error) { return e.Name, nil })
}

// Add keeps a secret under a name that begins as that of its entry and that no other has. It
// returns the entry as it is kept.
func (c *Chest) Add(e Entry, s Secret) (Entry, error) { return c.put(e, s, c.freeNames()) }

// A Kept is a secret that is to be kept, and then what became of it.
type Kept struct {
	Entry  Entry // as it is kept, once it is
	Secret Secret
	Err    error // why it is not
}

// AddAll is [Chest.Add] for many, as one change of the chest: what each costs does not grow with their
// number. The error is about all of them.
func (c *Chest) AddAll(list []Kept) error {
	free := c.freeNames()
	return c.change(func() error {
		for i := range list {
			list[i].Entry, list[i].Err = c.keep(list[i].Entry, list[i].Secret, free)
		}
		return nil
	})
}

func (c *Chest) put(e Entry, s Secret, name func(wanted string) (string, error)) (kept Entry, err error) {
	return kept, c.change(func() error {
		kept, err = c.keep(e, s, name)
		return err
	})
}

// keep writes an entry with its secret. The caller has the chest for itself.
func (c *Chest) keep(e Entry, s Secret, name func(wanted string) (string, error)) (_ Entry, err error) {
	e.sealed = nil // another secret's, where the entry was read before
	if err := e.check(); err != nil {
		return e, err
	}
	if e.Kind == "" {
		if e.Kind, err = c.Kind(); err != nil {
			return e, err
		}
		if err = c.Allows(e.Kind); err != nil {
			return e, err
		}
	}
	if e.Name, err = name(e.Name); err != nil {
		return e, err
	}
	text, err := s.marshal(e) // its name is a part of what is sealed
	if err != nil {
		return e, err
	}
	var sealed []byte
	if e.Kind == Sealed {
		sealed, err = c.seal(text)
	} else {
		err = c.putElsewhere(e, text)
	}
	if err != nil {
		return e, err
	}
	old, none := c.Entry(e.Name)
	if errors.Is(none, ErrNewer) {
		return e, none
	}
	if err := c.write(e, sealed); err != nil {
		return e, err
	}
	if none == nil && c.mark(old) != c.mark(e) {
		return e, disk.Remove(c.mark(old))
	}
	return e, nil
}

// Note changes what is known about a secret, and leaves the secret as it is.
func (c *Chest) Note(name string, change func(*Entry)) error {
	return c.change(func() error {
		e, err := c.entry(name)
		if err != nil {
			return err
		}
		before := e.purpose()
		if change(&e); !e.purpose().is(before) || e.check() != nil {
			return errors.New("an entry keeps what its secret is for")
		}
		return c.write(e, e.sealed)
	})
}

// Get returns the secret of an entry. [ErrClosed] tells that the chest must be opened first.
func (c *Chest) Get(e Entry) (Secret, error) {
	if e.Kind != Sealed {
		text, err := c.getElsewhere(e)
		if err != nil {
			return Secret{}, err
		}
		return unmarshal(text, e)
	}
	now := e
	if len(e.sealed) == 0 { // one that was made here, and not read
		var err error
		if now, err = c.entry(e.Name); err != nil {
			if errors.Is(err, ErrNone) {
				err = ErrLost
			}
			return Secret{}, err
		}
	}
	if len(now.sealed) == 0 {
		return Secret{}, ErrLost
	}
	text, err := c.unseal(now.sealed)
	if err != nil {
		return Secret{}, err
	}
	return unmarshal(text, e)
}

// Remove forgets an entry and its secret.
func (c *Chest) Remove(name string) error {
	return c.change(func() error {
		e, err := c.Entry(name)
		if err != nil {
			return err
		}
		if err := errors.Join(disk.Remove(c.path(name)), disk.Remove(c.mark(e))); err != nil {
			return err
		}
		return c.removeElsewhere(e)
	})
}

// freeNames finds names that no entry has, and that begin as wanted. It remembers how far it has looked.
func (c *Chest) freeNames() func(wanted string) (string, error) {
	tried := map[string]int{}
	return func(wanted string) (string, error) {
		for {
			tried[wanted]++
			name := wanted
			if n := tried[wanted]; n > 1 {
				name += "-" + strconv.Itoa(n)
			}
			if _, err := c.Entry(name); errors.Is(err, ErrNone) {
				return name, nil
			} else if err != nil && !errors.Is(err, ErrDamaged) {
				return "", err
			}
		}
	}
}
