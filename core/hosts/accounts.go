package hosts

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// A second account on a host has a name of its own for ssh, an alias, with settings of its
// own. In repositories below its folder git rewrites the host's URLs to that alias, by itself,
// whatever program runs it.

// Reasons for which [AddAccount], [DropAccount] and [Registry.Find] know no such account, for errors.Is.
var (
	ErrAccount   = fault.New("host-account", fault.Misused, "an account is written ACCOUNT@HOST, with letters, digits, dots and hyphens before the @")
	ErrNoAccount = fault.New("host-no-account", fault.Refused, "no such account was added here")
	ErrFolder    = fault.New("host-folder", fault.Misused, "an account needs a folder: its repositories are those below it")
)

// An Account is a second one on a described host.
type Account struct {
	Name    string
	Host    *describe.Description // as it is without the account
	Folders []string              // below which its repositories lie
	Author  string                // "name <email>" or a part of that; empty when none is set
}

// Alias is the name by which ssh knows the host for an account.
func (a Account) Alias() string { return describe.Alias(a.Name, a.Host.SSH.Host) }

// splitAccount reads ACCOUNT@HOST.
func splitAccount(text string) (account, host string, ok bool) {
	account, host, found := strings.Cut(text, "@")
	return account, host, found && allow.Host(account) && host != ""
}

// accountFile holds what git is told in an account's repositories.
func accountFile(station *workstation.Station, account, hostName string) string {
	return filepath.Join(station.Config, "git", account+"@"+hostName+".config")
}

// readAccounts finds the accounts that were added.
func (r *Registry) readAccounts(station *workstation.Station) error {
	paths, err := filepath.Glob(filepath.Join(station.Config, "git", "*@*.config"))
	if err != nil {
		return err
	}
	for _, path := range paths {
		account, hostName, ok := splitAccount(strings.TrimSuffix(filepath.Base(path), ".config"))
		if d := r.ForHost(hostName); ok && d != nil {
			r.accounts = append(r.accounts, Account{Name: account, Host: d})
		}
	}
	return nil
}

// account returns the description for an account that was added.
func (r *Registry) account(account string, d *describe.Description) (*describe.Description, error) {
	for _, a := range r.accounts {
		if a.Name == account && a.Host == d {
			return d.As(account), nil
		}
	}
	return nil, fmt.Errorf("%s@%s: %w", account, d.Name, ErrNoAccount)
}

// Accounts tells of each account on a host where it is used.
func (r *Registry) Accounts(station *workstation.Station, d *describe.Description) ([]Account, error) {
	included, err := ourEntries(station)
	if err != nil {
		return nil, err
	}
	var list []Account
	for _, a := range r.accounts {
		if a.Host != d {
			continue
		}
		path := accountFile(station, a.Name, d.SSH.Host)
		for _, entry := range included {
			folder, found := strings.CutPrefix(entry.Key, "includeif.gitdir:")
			if found && filepath.FromSlash(entry.Value) == path {
				a.Folders = append(a.Folders, filepath.FromSlash(strings.TrimSuffix(folder, "/.path")))
			}
		}
		entries, err := gitlink.Entries(path)
		if err != nil {
			return nil, err
		}
		name, email := "", ""
		for _, entry := range entries {
			switch entry.Key {
			case "user.name":
				name = entry.Value
			case "user.email":
				email = "<" + entry.Value + ">"
			}
		}
		a.Author = strings.TrimSpace(name + " " + email)
		list = append(list, a)
	}
	slices.SortFunc(list, func(a, b Account) int { return cmp.Compare(a.Name, b.Name) })
	return list, nil
}

// A NewAccount says what account to add.
type NewAccount struct {
	Text          string // ACCOUNT@HOST
	Folder        string // below which its repositories lie
	Author, Email string // for its commits; empty leaves them as they are
}

// AddAccount makes git use an account in the repositories below a folder. Added again with
// another folder, it holds for both. It returns the host as it is for the account.
func AddAccount(ctx context.Context, batch *workstation.Batch, station *workstation.Station, registry *Registry,
	n NewAccount) (*describe.Description, error) {
	account, host, ok := splitAccount(n.Text)
	if !ok {
		return nil, fmt.Errorf("%s: %w", n.Text, ErrAccount)
	}
	d, err := registry.Find(host)
	if err != nil {
		return nil, err
	}
	if !d.HasSSH() { // accounts are told apart by the name that ssh knows the host by
		return nil, fmt.Errorf("%s: %w", d.Name, ErrNoSSH)
	}
	t := &target{station: station, hostName: d.SSH.Host}
	if _, err := folderEffect(t, n.Folder); err != nil {
		return nil, err
	}
	if t.folder == "" {
		return nil, ErrFolder
	}
	assignments, err := accountAssignments(t, d, account, n)
	if err != nil {
		return nil, err
	}
	as := d.As(account)
	if err := Settle(batch, station, as.SSH.Host, aliasSettings(station, d)...); err != nil {
		return nil, err
	}
	path := accountFile(station, account, d.SSH.Host)
	if err := editGit(ctx, batch, station, path, fmt.Sprintf("Say what git uses for %s.", as.Name),
		assignments); err != nil {
		return nil, err
	}
	return as, SettleGit(ctx, batch, station, fmt.Sprintf("Use %s below %s.", as.Name, station.Tilde(t.folder)),
		[]gitlink.Assignment{
			{Key: "includeIf.gitdir:" + strings.TrimSuffix(filepath.ToSlash(t.folder), "/") + "/.path",
				Values: []string{filepath.ToSlash(path)}}})
}

// accountAssignments are what git is told in an account's repositories.
func accountAssignments(t *target, d *describe.Description, account string,
	n NewAccount) ([]gitlink.Assignment, error) {
	user, alias := d.SSH.User, describe.Alias(account, d.SSH.Host)
	list := []gitlink.Assignment{
		{Key: "url." + user + "@" + alias + ":.insteadOf", Values: []string{user + "@" + d.SSH.Host + ":"}},
		{Key: "url.ssh://" + user + "@" + alias + "/.insteadOf",
			Values: []string{"ssh://" + user + "@" + d.SSH.Host + "/"}},
		{Key: credentialKey(d.HTTPSAt(), "username"), Values: []string{d.GitUser(account)}},
	}
	for variable, value := range map[string]string{"name": n.Author, "email": n.Email} {
		if value == "" {
			continue
		}
		e, err := t.author(variable, value)
		if err != nil {
			return nil, err
		}
		list = append(list, e.author...)
	}
	slices.SortFunc(list[3:], func(a, b gitlink.Assignment) int { return cmp.Compare(a.Key, b.Key) })
	return list, nil
}

// aliasSettings lead to the same host: as its description says, and as our settings for it do,
// but for the key.
func aliasSettings(station *workstation.Station, d *describe.Description) []sshconfig.Setting {
	settings := Reach(station, d)
	if d.SSH.Address == "" {
		settings = append(settings, sshconfig.Setting{Keyword: "HostName", Args: []string{d.SSH.Host}})
	}
	text, err := regular.Read(OurFile(station), regular.Settings)
	if err != nil {
		return settings
	}
	for _, keyword := range []string{"HostName", "Port", "User", "ProxyJump", "ServerAliveInterval"} {
		if values := sshconfig.InBlock(text, []string{d.SSH.Host}, strings.ToLower(keyword)); len(values) > 0 {
			settings = append(settings, sshconfig.Setting{Keyword: keyword, Args: values[:1]})
		}
	}
	return settings
}

// DropAccount takes an account out of ssh's and git's settings. Its key stays.
func DropAccount(ctx context.Context, batch *workstation.Batch, station *workstation.Station, registry *Registry,
	text string) error {
	d, err := registry.Find(text)
	if err != nil {
		return err
	}
	if d.ForAccount == "" {
		return fmt.Errorf("%s: %w", text, ErrAccount)
	}
	hostName := strings.TrimPrefix(d.SSH.Host, describe.Alias(d.ForAccount, ""))
	path := accountFile(station, d.ForAccount, hostName)
	entries, err := ourEntries(station)
	if err != nil {
		return err
	}
	var list []gitlink.Assignment
	for _, entry := range entries {
		if filepath.FromSlash(entry.Value) == path {
			list = append(list, gitlink.Assignment{Key: entry.Key})
		}
	}
	if err := editGit(ctx, batch, station, OurGitFile(station), fmt.Sprintf("Use %s nowhere.", d.Name),
		list); err != nil {
		return err
	}
	if err := batch.Remove(path, fmt.Sprintf("Forget what git uses for %s.", d.Name)); err != nil {
		return err
	}
	return dropBlock(batch, station, d.SSH.Host)
}
