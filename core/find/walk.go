package find

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Limits of one search.
const (
	maxDepth = 16        // levels of folders below the one given
	maxFiles = 5_000_000 // looked at by name
	maxKeys  = 1000      // pairs and halves
)

// barren are folders that hold what programs fetched or made again and again: many files,
// and no key that a person left.
var barren = map[string]bool{
	".git": true, ".hg": true, ".svn": true, "node_modules": true, ".cache": true, "__pycache__": true,
	".venv": true, "venv": true, ".cargo": true, ".rustup": true, ".npm": true, ".gradle": true, ".m2": true,
	".mozilla": true, ".thunderbird": true, "site-packages": true, ".tox": true, ".terraform": true, ".Trash": true,
}

// telling are the ends of names whose files are something else. A key has no end to its
// name, or one that nobody else uses.
var telling = sync.OnceValue(func() map[string]bool {
	ends := map[string]bool{}
	for _, end := range strings.Fields(`
		a ai apk avi avif bin bmp bz2 c cc class cpp cs css csv dart dat db deb dll doc docx dylib eml eps epub exe
		flac flv gif go gz h heic hpp htm html ico ics img ini ipynb iso jar java jpeg jpg js json jsx kt less lib lock log lua
		m4a md mjs mkv mo mov mp3 mp4 mpeg mpg msi o odp ods odt ogg opus otf parquet pdf php pl png po ppt pptx
		proto ps psd py pyc pyd pyi r rar rb rpm rs rst rtf s sass scala scss sh so sql sqlite sqlite3 srt svg swift
		tar tex tgz tif tiff toml ts tsv tsx ttf vcf vue wav webm webp wmv woff woff2 xls xlsx xml xz yaml yml zip zst`) {
		ends["."+end] = true
	}
	return ends
})

// worthReading tells by a file's name alone whether it may be a key.
func worthReading(name string) bool {
	i := strings.LastIndexByte(name, '.')
	return i <= 0 || !telling()[strings.ToLower(name[i:])]
}

// A Progress is told now and then how far a search is.
type Progress func(files int, folder string)

// A walk goes through the folders below one.
type walk struct {
	ctx      context.Context
	progress Progress
	files    int
	cut      bool // a limit was reached
	visit    func(path, repository string)
}

// below looks through a folder. repository is the nearest one around it, or empty. Links
// are not followed, and no other file system is entered: a share of others', say.
func (w *walk) below(dir, repository string, device uint64, depth int) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil { // not for us to read
		return nil
	}
	for _, entry := range entries {
		if name := entry.Name(); name == ".git" || name == ".hg" {
			repository = dir
		}
	}
	var folders []string
	for _, entry := range entries {
		name := entry.Name()
		switch {
		case entry.IsDir():
			if !barren[name] {
				folders = append(folders, name)
			}
		case entry.Type().IsRegular():
			w.files++
			if worthReading(name) {
				w.visit(filepath.Join(dir, name), repository)
			}
		}
	}
	if w.progress != nil {
		w.progress(w.files, dir)
	}
	if depth == 0 || w.files > maxFiles {
		w.cut = w.cut || len(folders) > 0
		return nil
	}
	for _, name := range folders {
		path := filepath.Join(dir, name)
		if other, ok := deviceOf(path); ok && other != device {
			continue
		}
		if err := w.below(path, repository, device, depth-1); err != nil {
			return err
		}
	}
	return nil
}

// around finds the repository that a folder lies in, or nothing.
func around(dir string) string {
	for {
		for _, name := range []string{".git", ".hg"} {
			if _, err := os.Lstat(filepath.Join(dir, name)); !errors.Is(err, fs.ErrNotExist) && err == nil {
				return dir
			}
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return ""
		}
		dir = parent
	}
}
