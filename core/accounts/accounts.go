// Package accounts lists the people of a machine and where their homes are.
package accounts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/identity"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/regular"
)

// A Home is a folder that belongs to somebody.
type Home struct {
	Person string // login name; empty for an owner whom no list of accounts names
	Who    identity.Who
	Path   string
}

// leastPerson is the first number of people, and mostPerson the last (UID_MIN and UID_MAX in login.defs(5)): below
// are services.
const leastPerson, mostPerson = 1000, 60000

// directoryPatience bounds how long a directory of people may take to list them.
const directoryPatience = 30 * time.Second

// Homes lists the homes of the people of this machine, root's among them: those of the accounts (passwd(5), and what
// getent(1) knows where people are in a directory), and the folders beside them that belong to nobody any more.
// Services have none. The error is that of a list that cannot be read, or [ErrDirectory].
func Homes(ctx context.Context) ([]Home, error) {
	text, err := regular.Read("/etc/passwd", regular.Settings)
	if err != nil {
		return nil, err
	}
	if inDirectory() {
		more, err := listed(ctx)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDirectory, err)
		}
		text = append(append(text, '\n'), more...)
	}
	groups, err := regular.Read("/etc/group", regular.Settings)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	homes := of(text, groups)
	return append(homes, abandoned(homes)...), nil
}

// inDirectory tells that people are listed elsewhere than in files (nsswitch.conf(5)).
func inDirectory() bool {
	text, err := regular.Read("/etc/nsswitch.conf", regular.Settings)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		if len(words) > 1 && words[0] == "passwd:" {
			return slices.ContainsFunc(words[1:], func(w string) bool {
				return w != "files" && w != "compat" && w != "systemd" && !strings.HasPrefix(w, "[")
			})
		}
	}
	return false
}

// ErrDirectory is returned where the directory that lists people does not answer: a report without them would look as
// if they had no homes here.
var ErrDirectory = fault.New("accounts-unlisted", fault.Failed,
	"the directory of accounts (getent passwd) does not answer")

// listed is what the system's own program lists.
func listed(ctx context.Context) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, directoryPatience)
	defer cancel()
	return exec.CommandContext(ctx, "getent", "passwd").Output()
}

// of reads the homes out of the two lists (passwd(5), group(5)).
func of(passwd, group []byte) []Home {
	groups := map[string][]int{}
	for _, fields := range colons(group, 4) {
		gid, err := strconv.Atoi(fields[2])
		for _, name := range strings.Split(fields[3], ",") {
			if err == nil && name != "" {
				groups[name] = append(groups[name], gid)
			}
		}
	}
	var homes []Home
	seen := map[string]bool{}
	for _, fields := range colons(passwd, 6) {
		uid, err := strconv.Atoi(fields[2])
		gid, err2 := strconv.Atoi(fields[3])
		path := fields[5]
		person := uid == 0 || uid >= leastPerson && uid <= mostPerson
		if err != nil || err2 != nil || !person || !filepath.IsAbs(path) || path == "/" || seen[path] {
			continue
		}
		seen[path] = true
		homes = append(homes, Home{Person: fields[0], Path: filepath.Clean(path),
			Who: identity.Who{UID: uid, GID: gid, Groups: groups[fields[0]]}})
	}
	slices.SortFunc(homes, func(a, b Home) int {
		return cmp.Or(cmp.Compare(a.Person, b.Person), cmp.Compare(a.Path, b.Path))
	})
	return homes
}

// colons takes lines apart that have at least so many fields.
func colons(text []byte, least int) [][]string {
	var all [][]string
	for line := range strings.Lines(string(text)) { // however long: a group may have thousands of members
		fields := strings.Split(strings.TrimRight(line, "\r\n"), ":")
		if len(fields) >= least && !strings.HasPrefix(fields[0], "#") {
			all = append(all, fields)
		}
	}
	return all
}

// abandoned are folders beside the homes of people whose owner has no account: left by somebody who is gone.
func abandoned(homes []Home) []Home {
	owners, bases := map[int]bool{}, map[string]bool{}
	known := map[string]bool{}
	for _, h := range homes {
		owners[h.Who.UID], known[h.Path] = true, true
		if h.Who.UID >= leastPerson {
			bases[filepath.Dir(h.Path)] = true
		}
	}
	delete(bases, "/")
	var found []Home
	for base := range bases {
		entries, err := os.ReadDir(base)
		if err != nil {
			continue
		}
		for _, entry := range entries {
			path := filepath.Join(base, entry.Name())
			info, err := entry.Info()
			if err != nil {
				continue
			}
			uid, gid, ok := ownerOf(info)
			if ok && entry.IsDir() && !known[path] && uid >= leastPerson && uid <= mostPerson && !owners[uid] {
				found = append(found, Home{Who: identity.Who{UID: uid, GID: gid}, Path: path})
			}
		}
	}
	slices.SortFunc(found, func(a, b Home) int { return strings.Compare(a.Path, b.Path) })
	return found
}

// Own is the home of whoever runs this.
func Own(p person.Person) Home {
	return Home{Person: p.User, Path: p.Home, Who: identity.Who{UID: p.UID, GID: os.Getegid()}}
}

// At is a home that somebody names: of the account that owns the folder. The error is that of the folder, or
// [ErrNotHome].
func At(path string) (Home, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return Home{}, err
	}
	info, err := os.Lstat(path)
	if err != nil {
		return Home{}, err
	}
	uid, gid, ok := ownerOf(info)
	if !info.IsDir() || !ok {
		return Home{}, fmt.Errorf("%s: %w", path, ErrNotHome)
	}
	h := Home{Path: path, Who: identity.Who{UID: uid, GID: gid}}
	if who, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		h.Person = who.Username
		ids, _ := who.GroupIds() // without them less can be read
		for _, id := range ids {
			if gid, err := strconv.Atoi(id); err == nil {
				h.Who.Groups = append(h.Who.Groups, gid)
			}
		}
	}
	return h, nil
}

// ErrNotHome is returned by [At] for what is no folder, or has no owner.
var ErrNotHome = fault.New("not-a-home", fault.Misused, "not the folder of an account")
