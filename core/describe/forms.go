package describe

import "strings"

// What the words of a description may be made of. They end up in files for ssh, in command
// lines and in paths, so each allows little. Plain loops, because compiling expressions for
// them would be most of the time in which the program starts.
const (
	small  = "abcdefghijklmnopqrstuvwxyz"
	digits = "0123456789"
	large  = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
)

// IsName: a short word of small letters, digits and hyphens that begins with a letter.
func IsName(text string) bool { return isMadeOf(text, 31, small, small+digits+"-") }

// IsHost: a host name or an IPv4 address (RFC 1123, section 2.1). It neither begins nor ends
// with a hyphen or a dot.
func IsHost(text string) bool {
	return isMadeOf(text, 253, small+large+digits, small+large+digits+".-") && !strings.HasSuffix(text, "-") && !strings.HasSuffix(text, ".")
}

// IsLogin: a login name that no shell and no ssh reads as anything else.
func IsLogin(text string) bool {
	return isMadeOf(text, 64, small+large+digits+"_", small+large+digits+"_.-")
}

func isMadeOf(text string, most int, first, rest string) bool {
	if text == "" || len(text) > most || strings.IndexByte(first, text[0]) < 0 {
		return false
	}
	return strings.Trim(text, rest) == ""
}
