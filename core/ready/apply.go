package ready

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// errNoAction is returned for a mend that nothing here carries out.
var errNoAction = errors.New("nothing carries this out by itself")

// Apply carries a action out and returns in a sentence what was done.
func Apply(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	secrets site.Secrets) (string, error) {
	switch action.Do {
	case finding.MakeKey:
		return makeFor(ctx, p, batch, action, secrets)
	case finding.TrustHost:
		trusted, err := trust.Host(ctx, p, batch, action.Host, "")
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("Stored the host key of %s, the same as %s.", trusted.Name, trusted.Because), nil
	case finding.RegisterKey:
		return registerFor(ctx, p, batch, action, secrets)
	case finding.UseKey:
		pair, err := sshkey.Load(action.Key)
		if err != nil {
			return "", err
		}
		err = keys.SetUse(ctx, p, batch, action.HostName, pair)
		return fmt.Sprintf("The settings for %s use %s now.", action.Host, p.Station.Tilde(action.Key)), err
	case finding.SettleHost:
		err := hosts.Settle(batch, p.Station, action.HostName, action.Settings...)
		return fmt.Sprintf("The settings for %s lead where its description says.", action.Host), err
	case finding.LoadKey:
		return loadFor(ctx, p, batch, action, secrets)
	case finding.OpenChest:
		return "The chest is open for a working day.", secrets.Chest()
	case finding.SettleWeb, finding.GetToken, finding.AskFirst:
		return applyWeb(ctx, p, batch, action, secrets)
	}
	return applyToFile(ctx, p, batch, action)
}

// applyWeb carries out the deeds for the way over HTTPS.
func applyWeb(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	secrets site.Secrets) (string, error) {
	host, err := p.Registry.Find(action.Host)
	if err != nil {
		return "", err
	}
	if action.Do == finding.SettleWeb {
		return fmt.Sprintf("git reaches %s over HTTPS as its description says.", host.Name),
			hosts.SettleHTTPS(ctx, batch, p.Station, host, p.Program)
	}
	if action.Do == finding.AskFirst {
		return fmt.Sprintf("git asks the chest alone for %s.", host.Name),
			hosts.AskAlone(ctx, batch, p.Station, []string{host.HTTPSAt()}, p.Program)
	}
	if err := secrets.Chest(); err != nil {
		return "", err
	}
	purposes := []string{string(finding.Clone)}
	if action.Purpose == finding.Push {
		purposes = append(purposes, string(finding.Push))
	}
	if !host.Can("issue-token") {
		token, err := secrets.TokenToKeep(host)
		if err == nil {
			token, err = tokens.Pasted(host, token, p.Registry.All())
		}
		if err != nil {
			return "", err
		}
		e, _, err := tokens.Keep(ctx, p, batch, tokens.NewToken{Host: host, Secret: chest.Secret{Token: token},
			Purposes: purposes, Account: host.ForAccount})
		return fmt.Sprintf("The token %s is in the chest, and git gets it from there.", e.Name), err
	}
	client := p.Client(host, origin.Bound{})
	if host.Operations["issue-token"].SignIn == "password" {
		err = secrets.SignIn(client)
	} else {
		client.Token, err = secrets.Issuer(host)
	}
	if err != nil {
		return "", err
	}
	r := hostapi.TokenRequest{Label: "unicrux on " + p.Station.Computer, Purposes: purposes,
		Until: hostapi.UsualEnd(host, "issue-token", p.Station.Now())}
	e, _, err := tokens.Issue(ctx, p, batch, client, r)
	good := ""
	if !e.Until.IsZero() {
		good = ", good until " + e.Until.Format(time.DateOnly)
	}
	return fmt.Sprintf("%s issued the token %s%s. It is in the chest, and git gets it from there.", host.Name,
		e.Name, good), err
}

// applyToFile carries out the deeds that change one file.
func applyToFile(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action) (string, error) {
	switch action.Do {
	case finding.Restrict:
		name := p.Station.Tilde(action.File)
		return "Only you may read " + name + " now.", batch.Mode(action.File, "Let nobody else read "+name+".", 0o600)
	case finding.WritePublic:
		return writePublic(p, batch, action.Key)
	case finding.SetRemote:
		return fmt.Sprintf("The remote %s is at %s now.", action.Remote, action.URL), setRemote(ctx, p, batch, action)
	case finding.NameSSH:
		path := filepath.Join(p.Station.Home, ".gitconfig")
		return "git starts ssh with the settings of this home now.",
			gitConfig(ctx, p, batch, path, "Tell git with which settings to start ssh.", "core.sshCommand",
				shellwords.Join("ssh", "-F", filepath.ToSlash(action.File)))
	}
	return "", errNoAction
}

func makeFor(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	secrets site.Secrets) (string, error) {
	host, err := p.Registry.Find(action.Host)
	if err != nil {
		return "", err
	}
	n := keys.NewKey{Host: host}
	// The usual name may be taken by a key that serves somewhere else.
	for i := 2; errors.Is(n.Check(p.Station), workstation.ErrExists) && i < 100; i++ {
		n.Name = fmt.Sprintf("%s_ed25519_%d", keys.Stem(host), i)
	}
	if !batch.Dry {
		if n.Passphrase, err = secrets.NewPassphrase(n.FileName()); err != nil {
			return "", err
		}
	}
	pair, err := keys.Make(ctx, p, batch, n)
	if err != nil {
		return "", err
	}
	done := fmt.Sprintf("Made the key %s, which the settings for %s use.", pair.Name(), host.Name)
	if batch.Dry || !pair.Locked {
		return done, nil
	}
	// Somebody has just typed the passphrase: that shall be enough for the day.
	loaded, err := keys.Load(ctx, p, batch, keys.Loading{Pair: pair, Passphrase: n.Passphrase,
		HostName: host.HostName()})
	if err == nil {
		done += " " + loaded.Words("it")
	}
	return done, nil
}

func registerFor(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	secrets site.Secrets) (string, error) {
	host, err := p.Registry.Find(action.Host)
	if err != nil {
		return "", err
	}
	pair, err := sshkey.Load(action.Key)
	if err != nil {
		return "", err
	}
	title := pair.Comment
	if title == "" {
		title = pair.Name()
	}
	r := registration.Registration{Pair: pair, Host: host, Title: title, Ask: secrets.Passphrase}
	if r.Token, err = secrets.Token(host); err != nil {
		return "", err
	}
	done, err := registration.Register(ctx, p, batch, r)
	if err != nil {
		return "", err
	}
	words := fmt.Sprintf("Registered %s with %s as “%s”.", pair.Name(), host.Name, untrusted.Clean(done.Title))
	if done.Already {
		words = fmt.Sprintf("%s knows %s already, as “%s”.", host.Name, pair.Name(), untrusted.Clean(done.Title))
	}
	if done.Account != "" {
		words += " It opens the account " + untrusted.Clean(done.Account) + "."
	}
	return words, nil
}

func loadFor(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	secrets site.Secrets) (string, error) {
	pair, err := sshkey.Load(action.Key)
	if err != nil || batch.Dry {
		return "", err
	}
	passphrase, err := secrets.Passphrase(pair)
	if err != nil {
		return "", err
	}
	loaded, err := keys.Load(ctx, p, batch, keys.Loading{Pair: pair, Passphrase: passphrase, HostName: action.HostName})
	if err != nil {
		return "", err
	}
	return loaded.Words(pair.Name()), nil
}

// writePublic puts the public half of a private file beside it.
func writePublic(p site.Site, batch *workstation.Batch, path string) (string, error) {
	pair, err := sshkey.Load(path)
	if err != nil {
		return "", err
	}
	if pair.Public == nil {
		return "", sshkey.ErrLocked
	}
	name := p.Station.Tilde(path) + ".pub"
	_, err = batch.Edit(path+".pub", "Write the public half of "+pair.Name()+" beside it.", 0o644,
		func([]byte) ([]byte, error) {
			return []byte(sshkey.Line(pair.Public, keys.NewKey{}.CommentFor(p.Station)) + "\n"), nil
		})
	return name + " holds the public half of this very key now.", err
}

func setRemote(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action) error {
	path, err := gitlink.LocalConfigFile(ctx, p.Station)
	if err != nil {
		return err
	}
	return gitConfig(ctx, p, batch, path, "Set the URL of the remote "+action.Remote+".",
		"remote."+action.Remote+".url", action.URL)
}

// gitConfig sets a variable in one of git's files.
func gitConfig(ctx context.Context, p site.Site, batch *workstation.Batch, path, words, name, value string) error {
	_, err := gitlink.Change(ctx, batch, p.Station, gitlink.EditOf{Path: path, Words: words, Mode: 0o644},
		func([]gitlink.Entry) ([]gitlink.Assignment, error) {
			return []gitlink.Assignment{{Key: name, Values: []string{value}}}, nil
		})
	return err
}
