package trust

import (
	"context"
	"fmt"
	"html"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
)

// maxPage bounds a page on which fingerprints are looked for, in bytes.
const maxPage = 2 << 20

// ErrPage is returned, wrapped with the page's URL, for a page on which there is no fingerprint of any ssh key.
var ErrPage = fault.New("host-key-page", fault.Refused, "there is no fingerprint of an ssh key on this page")

// OnPage looks for the host's keys on a page that the person names, which comes over verified HTTPS. The voucher quotes
// the place. The error wraps [ErrPage], is a *[KeyMismatch] where the page names other keys, or says why the page could
// not be read.
func (s *Seen) OnPage(ctx context.Context, url string) (*Voucher, error) {
	text, err := hostapi.FetchPage(ctx, url, maxPage, hosts.LineTo(ctx, s.place.Station, url))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", url, err)
	}
	claims := claimsOn(string(text))
	if len(claims) == 0 {
		return nil, fmt.Errorf("%s: %w", url, ErrPage)
	}
	for _, claim := range claims {
		if key, found := s.find(ctx, claim.Is); found {
			return &Voucher{key, []ssh.PublicKey{key}, "the one on " + url + ", where it says " +
				untrusted.Quote(claim.place)}, nil
		}
	}
	return nil, &KeyMismatch{Offered: s.Keys(ctx), Wanted: claims[0].String(), Source: "the one on " + url}
}

// A quoted claim is one of a page, and the words around it.
type quoted struct {
	sshkey.Claim
	place string
}

// The forms in which pages have keys: fingerprints as of ssh's programs, and public lines. A page's own words do not
// matter.
var (
	onPages = lazyregexp.Late(`(?i:SHA256:)[A-Za-z0-9+/]{43}|\b(?:[0-9a-fA-F]{2}:){15}[0-9a-fA-F]{2}\b|` +
		`\b(?:ssh-[a-z0-9]+|ecdsa-sha2-[a-z0-9]+|sk-[a-z0-9@.-]+)\s+AAAA[A-Za-z0-9+/]+={0,2}`)
	tags = lazyregexp.Late(`<[^>]*>`)
	gaps = lazyregexp.Late(`\s+`)
)

// quotedAround is how many bytes around a claim are quoted.
const quotedAround = 40

// claimsOn finds what a page says about ssh keys: in its text, whatever markup is in it.
func claimsOn(page string) []quoted {
	var list []quoted
	// a tag may be in the middle of a fingerprint, or between two
	for _, between := range []string{"", " "} {
		text := html.UnescapeString(tags().ReplaceAllString(page, between))
		for _, at := range onPages().FindAllStringIndex(text, 2000) {
			claim, err := sshkey.ParseClaim(text[at[0]:at[1]])
			if err != nil {
				continue
			}
			around := text[max(0, at[0]-quotedAround):min(len(text), at[1]+quotedAround)]
			list = append(list, quoted{claim, untrusted.Clean(strings.TrimSpace(gaps().ReplaceAllString(around, " ")))})
		}
	}
	return list
}
