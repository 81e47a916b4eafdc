package diagnose

import (
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/address"
)

// isPage tells whether a web address cannot be a repository's: it goes on behind the two
// names that make a project. What a page's address looks like behind them differs from
// host to host, so nothing more is read of it.
func isPage(a address.Address, text string) bool {
	return strings.Count(strings.Trim(a.Path, "/"), "/") >= 2 || strings.ContainsAny(text, "?#")
}

// pageRepository takes the two names out of the path of a page.
func pageRepository(path string) string {
	path, _, _ = strings.Cut(path, "?")
	path, _, _ = strings.Cut(path, "#")
	parts := strings.Split(strings.Trim(path, "/"), "/")
	return strings.TrimSuffix(strings.Join(parts[:min(len(parts), 2)], "/"), ".git") + ".git"
}

// portNumber reads a port; 0 for text that is none.
func portNumber(text string) uint16 {
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return 0
	}
	return uint16(port)
}
