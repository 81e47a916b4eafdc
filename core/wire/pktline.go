package wire

import (
	"bufio"
	"errors"
	"io"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/lazyregexp"
)

// flushPacket ends a list, and says "no more" to a service [PACK].
const flushPacket = "0000"

// maxPacket is the largest pkt-line, its four digits included [PACK].
const maxPacket = 65520

// The reasons why an answer is no advertisement.
var (
	errNoPacket = errors.New("not a pkt-line")
	errRefusal  = errors.New("the service refuses")
	errCut      = errors.New("the answer ends too early")
)

// An advertisement is what a git service lists before anything is asked of it.
type advertisement struct {
	refs  int
	heads map[string]string // object names of branches, by their full names, the first of them
	words string            // the service's own error, or what came in place of an advertisement
}

// advertises is a packet of an advertisement inside of other text [PACK], or Mercurial's list of what it can do.
var advertises = lazyregexp.Late(`[0-9a-f]{4}(version [12]\n|[0-9a-f]{40} \S+\x00)|(?m)^\d+\ncapabilities:`)

// readAdvertisement reads up to the flush packet. Each line is an object name and a ref; an empty repository sends one
// line with capabilities and no ref. Where something else comes, all of it is read as words.
func readAdvertisement(r *bufio.Reader) (advertisement, error) {
	ad, err := beginAdvertisement(r)
	if errors.Is(err, errNoPacket) {
		ad.readOn(r)
	}
	return ad, err
}

// beginAdvertisement is [readAdvertisement] up to where something else comes.
func beginAdvertisement(r *bufio.Reader) (advertisement, error) {
	var ad advertisement
	for {
		packet, err := readPacket(r)
		switch {
		case errors.Is(err, errNoPacket):
			ad.words = packet
			return ad, err
		case err != nil:
			return ad, err
		case packet == flushPacket:
			return ad, nil
		case strings.HasPrefix(packet, "ERR "):
			ad.words = strings.TrimPrefix(packet, "ERR ")
			return ad, errRefusal
		case isRef(packet):
			ad.add(packet)
		}
	}
}

// readOn reads words to their end.
func (ad *advertisement) readOn(r *bufio.Reader) {
	rest, _ := io.ReadAll(io.LimitReader(r, maxWords)) // what came until it broke is all there is
	ad.words += string(rest)
}

// maxHeads bounds how many branches are kept.
const maxHeads = 20_000

func (ad *advertisement) add(packet string) {
	ad.refs++
	object, ref, _ := strings.Cut(packet, " ")
	ref, _, _ = strings.Cut(ref, "\x00")
	if strings.HasPrefix(ref, "refs/heads/") && len(ad.heads) < maxHeads {
		if ad.heads == nil {
			ad.heads = map[string]string{}
		}
		ad.heads[ref] = object
	}
}

// isRef tells a ref from a line of capabilities or a version.
func isRef(packet string) bool {
	name, ref, found := strings.Cut(packet, " ")
	return found && (len(name) == 40 || len(name) == 64) && !strings.HasPrefix(ref, "capabilities^{}")
}

// readPacket reads one pkt-line: four hexadecimal digits that count themselves, then
// the content. A flush packet comes back as it is. With [errNoPacket] the bytes read so
// far are returned.
func readPacket(r *bufio.Reader) (string, error) {
	var head [4]byte
	if n, err := io.ReadFull(r, head[:]); err != nil {
		if n > 0 {
			return string(head[:n]), errNoPacket
		}
		return "", errCut
	}
	size, err := strconv.ParseUint(string(head[:]), 16, 16)
	switch {
	case err != nil || size > maxPacket || (size > 0 && size < 4):
		return string(head[:]), errNoPacket
	case size == 0:
		return flushPacket, nil
	}
	content := make([]byte, size-4)
	if _, err := io.ReadFull(r, content); err != nil {
		return "", errCut
	}
	return strings.TrimSuffix(string(content), "\n"), nil
}
