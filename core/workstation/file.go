package workstation

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/regular"
)

// besideMark stands in the name of every file that we write beside another, so that
// leftovers of a killed run can be told from a person's files.
const besideMark = ".unicrux-"

// maxLinks bounds a chain of symbolic links, as the kernel's own limit does.
const maxLinks = 40

// ErrExists is returned for a file that was to be made and is there already.
var ErrExists = fault.New("file-exists", fault.Refused, "exists already")

// Reasons for which an edit of a [Batch] does not replace a file by one that has another content, for errors.Is:
// another name of it, or who may read it, would not be the same.
var (
	ErrForeign    = fault.New("file-foreign", fault.Failed, "the file belongs to another user or group")
	ErrLinked     = fault.New("file-linked", fault.Failed, "the file has several names (hard links), and the others would keep the old content")
	ErrAttributes = fault.New("file-attributes", fault.Failed, "an extended attribute or the access list of the file could not be kept")
)

// A fileState is what stood at a path: nothing, or content with a mode.
type fileState struct {
	exists  bool
	mode    fs.FileMode
	content []byte
}

func readState(path string) (fileState, error) {
	f, err := regular.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return fileState{}, nil
	}
	if err != nil {
		return fileState{}, err
	}
	defer f.Close() // opened for reading
	info, err := f.Stat()
	if err != nil {
		return fileState{}, err
	}
	content, err := io.ReadAll(f)
	return fileState{exists: true, mode: info.Mode().Perm(), content: content}, err
}

// resolveLinks returns where path leads, so that a linked file (settings kept in a
// dotfiles folder, say) is changed in place and its link stays. The last part need not exist.
func resolveLinks(path string) (string, error) {
	for range maxLinks {
		info, err := os.Lstat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return path, nil
		}
		if err != nil {
			return "", err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return path, nil
		}
		next, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		if !filepath.IsAbs(next) {
			next = filepath.Join(filepath.Dir(path), next)
		}
		path = next
	}
	return "", fmt.Errorf("%s: more than %d symbolic links in a row", path, maxLinks)
}

// writeBeside writes content to a new file in path's folder and syncs it. The file has
// its final mode and owner before its first byte, so nobody reads it in between.
func writeBeside(path string, content []byte, mode fs.FileMode) (beside string, err error) {
	var tag [8]byte
	if _, err := rand.Read(tag[:]); err != nil {
		return "", err
	}
	beside = filepath.Join(filepath.Dir(path), besideMark+hex.EncodeToString(tag[:]))
	f, err := disk.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", about(path, err)
	}
	err = fill(f, path, content, mode)
	if err = errors.Join(err, f.Close()); err != nil { // nothing is left of it
		return "", errors.Join(about(path, err), disk.Remove(beside))
	}
	return beside, nil
}

// about is an error as one of the file that is meant, and not of the one beside it.
func about(path string, err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return &fs.PathError{Op: at.Op, Path: path, Err: at.Err}
	}
	return err
}

// fill gives a new file its owner, mode and attributes, then its content, and syncs it.
func fill(f *disk.File, path string, content []byte, mode fs.FileMode) error {
	if err := keepOwner(f, path); err != nil {
		return err
	}
	if err := f.Chmod(mode); err != nil && !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	if err := keepAttributes(f, path); err != nil {
		return err
	}
	if _, err := f.Write(content); err != nil {
		return err
	}
	return f.Sync()
}

// replace puts content at path in one step: at every instant the old file or the new.
func replace(path string, content []byte, mode fs.FileMode) error {
	beside, err := writeBeside(path, content, mode)
	if err != nil {
		return err
	}
	if err := disk.Rename(beside, path); err != nil {
		return errors.Join(err, disk.Remove(beside))
	}
	return syncFolder(filepath.Dir(path))
}

// Replace puts content at path in one step, for files that are not recorded: at every instant
// the old file or the new. Links are not followed.
func Replace(path string, content []byte, mode fs.FileMode) error {
	return replace(path, content, mode)
}

// create puts content at path in one step, and fails with [ErrExists] rather than
// replace anything, a dangling link included.
func create(path string, content []byte, mode fs.FileMode) error {
	beside, err := writeBeside(path, content, mode)
	if err != nil {
		return err
	}
	err = disk.Link(beside, path)
	if err == nil || errors.Is(err, fs.ErrExist) {
		if err != nil {
			err = fmt.Errorf("%s: %w", path, ErrExists)
		}
		return errors.Join(err, disk.Remove(beside), syncFolder(filepath.Dir(path)))
	}
	// A file system without hard links: claim the name, then rename over the claim.
	claim, err := disk.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		if errors.Is(err, fs.ErrExist) {
			err = fmt.Errorf("%s: %w", path, ErrExists)
		}
		return errors.Join(err, disk.Remove(beside))
	}
	if err := errors.Join(claim.Close(), disk.Rename(beside, path)); err != nil {
		return errors.Join(err, disk.Remove(path), disk.Remove(beside))
	}
	return syncFolder(filepath.Dir(path))
}

// ownFolder is the mode of folders that are for their owner alone.
const ownFolder fs.FileMode = 0o700

// makeFolder makes the folder and what leads to it, for the owner alone, and reports
// the ones it made, outermost first.
func makeFolder(dir string) (made []string, err error) { return makeFolders(dir, ownFolder) }

// makeFolders is [makeFolder] for folders of any mode.
func makeFolders(dir string, mode fs.FileMode) (made []string, err error) {
	if info, err := os.Stat(dir); err == nil {
		if !info.IsDir() {
			return nil, fmt.Errorf("%s is not a folder", dir)
		}
		return nil, nil
	}
	if parent := filepath.Dir(dir); parent != dir {
		if made, err = makeFolders(parent, mode); err != nil {
			return made, err
		}
	}
	err = disk.Mkdir(dir, mode)
	if errors.Is(err, fs.ErrExist) { // another command was quicker
		return made, nil
	}
	if err != nil {
		return made, err
	}
	if mode != ownFolder { // whatever the mask of this process would leave of it
		err = disk.Chmod(dir, mode)
	}
	return append(made, dir), errors.Join(err, giveFolder(dir))
}
