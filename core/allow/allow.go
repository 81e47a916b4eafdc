// Package allow says what texts may be made of that end up in files for ssh and git, in command
// lines and in paths. Each allows little, so that nothing that reads them later reads more into
// them than was meant.
//
// Plain loops, because compiling expressions for them would be most of the time in which the
// program starts.
package allow

import (
	"net/netip"
	"strings"
)

const (
	small  = "abcdefghijklmnopqrstuvwxyz"
	large  = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	digits = "0123456789"
)

// Letters and digits of ASCII, for those who allow something of their own.
const Letters, Digits = small + large, digits

// Name allows a short word of small letters, digits and hyphens that begins with a letter.
func Name(text string) bool { return isMadeOf(text, 31, small, small+digits+"-") }

// Variable allows the name of a value in a template.
func Variable(text string) bool { return isMadeOf(text, 31, small, small+digits+"_") }

// Host allows a host name or an IPv4 address (RFC 1123, section 2.1). It neither begins nor ends
// with a hyphen or a dot.
func Host(text string) bool {
	return isMadeOf(text, 253, small+large+digits, small+large+digits+".-") && !strings.HasSuffix(text, "-") &&
		!strings.HasSuffix(text, ".")
}

// IP allows an IP address without a zone (RFC 4007, section 11). A zone is any text at all, and
// the ssh client expands "%" in it; no host is published by one.
func IP(text string) bool {
	ip, err := netip.ParseAddr(text)
	return err == nil && ip.Zone() == ""
}

// HostOrIP allows either.
func HostOrIP(text string) bool { return Host(text) || IP(text) }

// Login allows a login name that no shell and no ssh reads as anything else.
func Login(text string) bool {
	return isMadeOf(text, 64, small+large+digits+"_", small+large+digits+"_.-")
}

// RemoteUser allows what the ssh client takes as the name of a user at the other end when it comes
// from a URL or from the command line: shells would read more into the others where a setting of
// ssh's puts it into a command ("%r"; valid_ruser in ssh.c of OpenSSH).
func RemoteUser(text string) bool {
	if strings.HasPrefix(text, "-") || strings.ContainsAny(text, "'`\";&<>|(){}") || strings.HasSuffix(text, `\`) {
		return false
	}
	for i := range len(text) - 1 {
		if strings.IndexByte(" \t\n\v\f\r", text[i]) >= 0 && text[i+1] == '-' {
			return false
		}
	}
	return true
}

// RemoteHost allows what the ssh client takes as the name of a host ("%h"; valid_hostname in ssh.c of
// OpenSSH).
func RemoteHost(text string) bool {
	return !strings.HasPrefix(text, "-") && !strings.ContainsAny(text, "'`\"$\\;&<>|(){} ") && Line(text)
}

// Number allows what a port or a count of seconds is written as.
func Number(text string) bool { return isMadeOf(text, 10, digits, digits) }

// Line allows everything but control characters (C0 and DEL): to ssh and git these are blanks or
// ends of lines, and behind the end of a line anything can stand.
func Line(text string) bool {
	for i := range len(text) {
		if text[i] < ' ' || text[i] == 0x7f {
			return false
		}
	}
	return true
}

// SameHost tells whether two host names are one: the case of ASCII letters does not count
// (RFC 4343). Other letters that some alphabets fold onto ASCII ones are other names.
func SameHost(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range len(a) {
		if lower(a[i]) != lower(b[i]) {
			return false
		}
	}
	return true
}

// LowerHost is a host name as all its spellings are compared.
func LowerHost(name string) string {
	b := []byte(name)
	for i := range b {
		b[i] = lower(b[i])
	}
	return string(b)
}

func lower(c byte) byte {
	if c >= 'A' && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func isMadeOf(text string, most int, first, rest string) bool {
	if text == "" || len(text) > most || strings.IndexByte(first, text[0]) < 0 {
		return false
	}
	return strings.Trim(text, rest) == ""
}
