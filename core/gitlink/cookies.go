package gitlink

import (
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
)

// Cookies is the header by which git's HTTPS library sends what a file of cookies holds for a URL; empty for
// nothing. The file has lines of seven fields with tabs between them, or headers as hosts set them ("HTTP
// COOKIES" and CURLOPT_COOKIEFILE in the library's documentation, http.cookieFile in git-config(1)).
func Cookies(text string, at *url.URL, now time.Time) string {
	var list []string
	for line := range strings.Lines(text) {
		cookie, whole := readCookie(strings.TrimRight(line, "\r\n"))
		if cookie != nil && cookieFits(cookie, whole, at, now) {
			list = append(list, cookie.Name+"="+cookie.Value)
		}
	}
	return strings.Join(list, "; ")
}

// readCookie reads a line; whole tells that it is for the host alone, and not for those below it.
func readCookie(line string) (cookie *http.Cookie, whole bool) {
	if header, found := cutPrefixFold(line, "Set-Cookie:"); found {
		cookie, err := http.ParseSetCookie(strings.TrimSpace(header))
		if err != nil || cookie.Domain == "" { // without a host it would go to any, which the library does not do
			return nil, false
		}
		return cookie, false
	}
	line = strings.TrimPrefix(line, "#HttpOnly_")
	fields := strings.Split(line, "\t")
	if strings.HasPrefix(line, "#") || len(fields) < 6 {
		return nil, false
	}
	if len(fields) == 6 { // an empty value
		fields = append(fields, "")
	}
	cookie = &http.Cookie{Domain: fields[0], Path: fields[2], Secure: strings.EqualFold(fields[3], "TRUE"),
		Name: fields[5], Value: fields[6]}
	if end, err := strconv.ParseInt(fields[4], 10, 64); err == nil && end > 0 {
		cookie.Expires = time.Unix(end, 0)
	}
	return cookie, !strings.EqualFold(fields[1], "TRUE")
}

func cutPrefixFold(text, prefix string) (string, bool) {
	if len(text) < len(prefix) || !strings.EqualFold(text[:len(prefix)], prefix) {
		return "", false
	}
	return text[len(prefix):], true
}

// cookieFits tells whether a cookie goes to a URL (RFC 6265, section 5.4).
func cookieFits(cookie *http.Cookie, whole bool, at *url.URL, now time.Time) bool {
	domain, host := allow.LowerHost(strings.TrimPrefix(cookie.Domain, ".")), allow.LowerHost(at.Hostname())
	path := cookie.Path
	if path == "" {
		path = "/"
	}
	below := strings.HasPrefix(at.Path, strings.TrimSuffix(path, "/")+"/") || at.Path == path
	return (host == domain || !whole && strings.HasSuffix(host, "."+domain)) && below &&
		(!cookie.Secure || at.Scheme == "https") && (cookie.Expires.IsZero() || cookie.Expires.After(now))
}
