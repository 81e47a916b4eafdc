package hosts

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/workstation"
)

// helperWords is how git calls us for credentials, behind the name of the program.
const helperWords = "for-git credential"

// Helper is what git is told to call for credentials (gitcredentials(7), CUSTOM HELPERS).
func Helper(program string) string {
	if strings.Trim(program, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-+:") == "" &&
		filepath.IsAbs(program) {
		return program + " " + helperWords
	}
	return "!" + shellwords.Always(filepath.ToSlash(program)) + " " + helperWords
}

// IsHelper tells whether a helper of git's is ours.
func IsHelper(value string) bool { return strings.HasSuffix(value, helperWords) }

// credentialKey is a variable of git's about credentials for a host alone.
func credentialKey(at, variable string) string { return "credential.https://" + at + "." + variable }

// SettleHTTPS makes git ask us for a described host's credentials, beside whatever helpers it
// asks already, and go to it as its description says.
func SettleHTTPS(ctx context.Context, batch *workstation.Batch, station *workstation.Station, d *describe.Description,
	program string) error {
	at := d.HTTPSAt()
	list, err := ourHelpers(station, []string{at}, program)
	if err != nil {
		return err
	}
	if d.HTTPS.Authority != "" {
		path := AuthorityFile(station, d)
		_, err := batch.Edit(path, fmt.Sprintf("Keep the certificate authority of %s.", d.Name), 0o600,
			func([]byte) ([]byte, error) { return []byte(d.HTTPS.Authority), nil })
		if err != nil {
			return err
		}
		list = append(list, gitlink.Assignment{Key: httpKey(at, "sslCAInfo"),
			Values: []string{filepath.ToSlash(path)}})
	}
	list = append(list, resolved(d)...)
	return SettleGit(ctx, batch, station, fmt.Sprintf("Let git ask the chest for %s.", at), list)
}

// resolved lets git find a host at the address that its description names; nothing where it names none.
func resolved(d *describe.Description) []gitlink.Assignment {
	target, err := url.Parse("https://" + d.HTTPSAt())
	if err != nil || d.HTTPS.Address == "" {
		return nil
	}
	return []gitlink.Assignment{{Key: httpKey(d.HTTPSAt(), "curloptResolve"), Values: []string{target.Hostname() + ":" +
		cmp.Or(target.Port(), "443") + ":" + bracketed(d.HTTPS.Address)}}}
}

func bracketed(address string) string {
	if ip := net.ParseIP(address); ip != nil && ip.To4() == nil {
		return "[" + address + "]"
	}
	return address
}

// ourHelpers is what our file says of whom git asks for hosts: us, and nobody else where that was settled.
func ourHelpers(station *workstation.Station, places []string, program string) ([]gitlink.Assignment, error) {
	entries, err := ourEntries(station)
	if err != nil {
		return nil, err
	}
	alone := map[string]bool{}
	for _, entry := range entries {
		if entry.Value == "" {
			alone[strings.ToLower(entry.Key)] = true
		}
	}
	var list []gitlink.Assignment
	for _, at := range places {
		a := gitlink.Assignment{Key: credentialKey(at, "helper"), Values: []string{Helper(program)}}
		if alone[strings.ToLower(a.Key)] {
			a.Values = []string{"", Helper(program)}
		}
		list = append(list, a)
	}
	return list, nil
}

// AskAlone makes git ask us for the credentials of hosts and nobody else: an empty value clears the
// helpers before it ("credential.helper" in gitcredentials(7)).
func AskAlone(ctx context.Context, batch *workstation.Batch, station *workstation.Station, places []string,
	program string) error {
	var list []gitlink.Assignment
	for _, at := range places {
		list = append(list, gitlink.Assignment{Key: credentialKey(at, "helper"), Values: []string{"", Helper(program)}})
	}
	return SettleGit(ctx, batch, station, fmt.Sprintf("Let git ask the chest alone for %s.",
		oneOr(places, "hosts")), list)
}

// oneOr names the one that is in a list, or says how many there are.
func oneOr(list []string, plural string) string {
	if len(list) == 1 {
		return list[0]
	}
	return fmt.Sprintf("%d %s", len(list), plural)
}

// AuthorityFile is where the certificate authority of a described host is kept for git.
func AuthorityFile(station *workstation.Station, d *describe.Description) string {
	return filepath.Join(folder(station), plainName(d)+".pem")
}

// SettleHelper makes git ask us for the credentials of hosts that are not described, as they are in URLs.
func SettleHelper(ctx context.Context, batch *workstation.Batch, station *workstation.Station, places []string,
	program string) error {
	list, err := ourHelpers(station, places, program)
	if err != nil {
		return err
	}
	return SettleGit(ctx, batch, station, fmt.Sprintf("Let git ask the chest for %s.", oneOr(places, "hosts")), list)
}

// plainName is what a host is called, without an account.
func plainName(d *describe.Description) string {
	if _, host, ok := splitAccount(d.Name); ok {
		return host
	}
	return d.Name
}
