package gitlink

import (
	"bytes"
	"encoding/binary"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/regular"
)

// mostOfIndex bounds the list of a repository's files that is read.
const mostOfIndex = 64 << 20

// Tracks tells whether a repository, named by the folder that its files are in, has a file among those that it keeps.
// known is false where its list cannot be read by us: it is split in two, or of a form that is not known.
func Tracks(repository, path string) (tracks, known bool) {
	rest, err := filepath.Rel(repository, path)
	if err != nil {
		return false, false
	}
	folder := filepath.Join(repository, ".git")
	// it may be a file that leads there (gitrepository-layout(5))
	if text, err := regular.Read(folder, mostOfGitFile); err == nil {
		dir, _ := strings.CutPrefix(string(bytes.TrimRight(text, "\r\n")), "gitdir: ")
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(repository, dir)
		}
		folder = dir
	}
	text, err := regular.Read(filepath.Join(folder, "index"), mostOfIndex)
	if isMissing(err) {
		return false, true
	}
	if err != nil {
		return false, false
	}
	return indexHas(text, filepath.ToSlash(rest))
}

// The parts of an index (gitformat-index(5)): what stands before and behind the hash of an entry, and the sizes of
// hashes, SHA-1 and SHA-256.
const (
	indexHead     = 12
	beforeHash    = 40
	behindHash    = 2
	nameLength    = 0xfff
	isExtended    = 0x4000
	splitOff      = "link"
	entryMultiple = 8 // entries begin at multiples of it
)

// indexHas looks for a name among the entries of an index.
func indexHas(text []byte, name string) (has, known bool) {
	for _, hash := range []int{20, 32} {
		if has, known = indexWith(text, name, hash); known {
			return has, true
		}
	}
	return false, false
}

func indexWith(text []byte, name string, hash int) (has, known bool) {
	if len(text) < indexHead+hash || string(text[:4]) != "DIRC" {
		return false, false
	}
	version, count := binary.BigEndian.Uint32(text[4:]), binary.BigEndian.Uint32(text[8:])
	if version < 2 || version > 4 {
		return false, false
	}
	rest, end := text[indexHead:len(text)-hash], []byte{}
	for range count {
		size := beforeHash + hash + behindHash
		if len(rest) < size+1 {
			return false, false
		}
		flags := binary.BigEndian.Uint16(rest[size-behindHash:])
		if flags&isExtended != 0 {
			size += behindHash
		}
		from, kept := size, 0
		if version == 4 {
			var ok bool
			if kept, from, ok = stripped(rest, size, len(end)); !ok {
				return false, false
			}
		}
		length := bytes.IndexByte(rest[min(from, len(rest)):], 0)
		if length < 0 {
			return false, false
		}
		end = append(end[:kept:kept], rest[from:from+length]...)
		if int(flags&nameLength) != min(len(end), nameLength) {
			return false, false // of the other hash, or damaged
		}
		if string(end) == name {
			return true, true
		}
		next := from + length + 1
		if version < 4 {
			next = (size+length)/entryMultiple*entryMultiple + entryMultiple
		}
		if next > len(rest) {
			return false, false
		}
		rest = rest[next:]
	}
	return false, !bytes.HasPrefix(rest, []byte(splitOff))
}

// stripped reads how many bytes of the name before are kept (version 4; the number is written as in a pack).
func stripped(rest []byte, at, before int) (kept, from int, ok bool) {
	n := 0
	for more := true; more; at++ {
		if at >= len(rest) || n > 1<<20 {
			return 0, 0, false
		}
		if n = n<<7 | int(rest[at]&0x7f); rest[at]&0x80 != 0 {
			n++
		} else {
			more = false
		}
	}
	return before - n, at, n <= before
}
