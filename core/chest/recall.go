package chest

import (
	"os"
	"slices"
	"sync"
	"time"
)

// A recall is what one process, which lives long, remembers of the files that it read: git asks it
// for the same again. What is remembered counts only as long as no file has changed.
type recall struct {
	mu    sync.Mutex
	lists map[string]listing // by the folder of a host's marks
}

// A listing is the entries for a host, and what the files were from which they were read.
type listing struct {
	entries []Entry
	files   []stamp
}

type stamp struct {
	path string
	info os.FileInfo
}

// settled is how old a file must be for its time of change to tell two contents apart: file systems
// count in steps.
const settled = 2 * time.Second

// find returns what is remembered; ok is false where something has changed since.
func (r *recall) find(folder string) (entries []Entry, ok bool) {
	if r == nil {
		return nil, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	l, ok := r.lists[folder]
	if !ok || slices.ContainsFunc(l.files, stamp.changed) {
		delete(r.lists, folder)
		return nil, false
	}
	return slices.Clone(l.entries), true
}

// keep remembers what was read after the files were looked at.
func (r *recall) keep(folder string, l listing) {
	now := time.Now()
	fresh := func(s stamp) bool { return s.info == nil || now.Sub(s.info.ModTime()) < settled }
	if r == nil || slices.ContainsFunc(l.files, fresh) {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.lists) < mostOpened {
		l.entries = slices.Clone(l.entries)
		r.lists[folder] = l
	}
}

// look notes what a file is now. One that is not there is never remembered.
func (r *recall) look(path string) stamp {
	if r == nil {
		return stamp{}
	}
	info, _ := os.Stat(path) // nil where there is none
	return stamp{path, info}
}

func (s stamp) changed() bool {
	info, err := os.Stat(s.path)
	return err != nil || !os.SameFile(info, s.info) || !info.ModTime().Equal(s.info.ModTime()) ||
		info.Size() != s.info.Size()
}
