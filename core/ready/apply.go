package ready

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"

	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// errNoAction is returned for a mend that nothing here carries out.
var errNoAction = errors.New("nothing carries this out by itself")

// Apply carries an action out and returns in a sentence what was done.
func Apply(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action, request finding.Request,
	person Person) (string, error) {
	switch action.Do {
	case finding.MakeKey:
		return makeFor(ctx, p, batch, action, person.Secrets)
	case finding.TrustHost:
		return stored(trust.Host(ctx, p, batch, action.Host))
	case finding.CompareHost:
		return stored(compareHost(ctx, p, batch, action, person))
	case finding.RegisterKey:
		return registerFor(ctx, p, batch, action, person)
	case finding.PasteKey:
		return pasteFor(ctx, p, batch, action, person)
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
		return loadFor(ctx, p, batch, action, person.Secrets)
	case finding.Repoint:
		return "Your settings start Unicrux where it is now.", hosts.Repoint(ctx, batch, p.Station, p.Program)
	case finding.OpenChest:
		return "The chest is open for a working day.", person.Chest()
	case finding.SettleWeb, finding.GetToken, finding.AskFirst, finding.TrustCA, finding.SignIn:
		return applyWeb(ctx, p, batch, action, request, person)
	case finding.NameAuthor:
		name, email, err := person.Author()
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("Commits are by %s <%s> now.", name, email), NameAuthor(ctx, p, batch, name, email)
	}
	return applyToFile(ctx, p, batch, action)
}

// NameAuthor writes who commits are by into git's configuration, for all repositories: whoever has no author at all has
// none for those without a remote either.
func NameAuthor(ctx context.Context, p site.Site, batch *workstation.Batch, name, email string) error {
	_, err := gitlink.Change(ctx, batch, p.Station, gitlink.EditOf{Path: gitlink.GlobalFile(p.Station),
		Words: "Say who commits are by.", Mode: 0o644}, func([]gitlink.Entry) ([]gitlink.Assignment, error) {
		return []gitlink.Assignment{{Key: "user.name", Values: []string{name}},
			{Key: "user.email", Values: []string{email}}}, nil
	})
	return err
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
		path := gitlink.GlobalFile(p.Station)
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

// stored says what became of a host's key.
func stored(trusted *trust.Trusted, err error) (string, error) {
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("Stored the host key of %s, the same as %s.", trusted.Name, trusted.Because), nil
}

// compareHost trusts a host by what is known of its keys, and where nothing is, by what the person says.
func compareHost(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	person Person) (*trust.Trusted, error) {
	trusted, err := trust.Host(ctx, p, batch, action.Host)
	var unpublished *trust.UnpublishedError
	if !errors.As(err, &unpublished) {
		return trusted, err
	}
	voucher, err := person.Vouch(ctx, unpublished.Seen)
	if err != nil {
		return nil, err
	}
	return unpublished.Seen.Store(batch, voucher)
}

// registrationOf is the key of an action and the host that is told of it.
func registrationOf(p site.Site, action finding.Action, person Person) (registration.Registration, error) {
	host, err := p.Registry.Find(action.Host)
	if err != nil {
		return registration.Registration{}, err
	}
	pair, err := sshkey.Load(action.Key)
	if err != nil {
		return registration.Registration{}, err
	}
	return registration.Registration{Pair: pair, Host: host, Title: cmp.Or(pair.Comment, pair.Name()),
		Ask: person.Passphrase}, nil
}

// pasteFor shows the line of a key that a person has to put on the host's web page, and waits until the host accepts
// it.
func pasteFor(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	person Person) (string, error) {
	r, err := registrationOf(p, action, person)
	if err != nil {
		return "", err
	}
	patience, err := person.Paste(r)
	if err != nil {
		return "", err
	}
	done, err := registration.ByHand(ctx, p, batch, r, patience)
	if err != nil {
		return "", err
	}
	words := fmt.Sprintf("%s accepts %s.", r.Host.Name, r.Pair.Name())
	if done.Account != "" {
		words += " It opens the account " + untrusted.Clean(done.Account) + "."
	}
	return words, nil
}

func registerFor(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	person Person) (string, error) {
	r, err := registrationOf(p, action, person)
	if err != nil {
		return "", err
	}
	done, err := registerWith(ctx, p, batch, r, person)
	if err != nil {
		return "", err
	}
	words := fmt.Sprintf("Registered %s with %s as “%s”.", r.Pair.Name(), r.Host.Name, untrusted.Clean(done.Title))
	if done.Already {
		words = fmt.Sprintf("%s knows %s already, as “%s”.", r.Host.Name, r.Pair.Name(), untrusted.Clean(done.Title))
	}
	if done.Account != "" {
		words += " It opens the account " + untrusted.Clean(done.Account) + "."
	}
	return words, nil
}

// registerWith registers a key with a token that the person gives. A wrong one is asked for once more.
func registerWith(ctx context.Context, p site.Site, batch *workstation.Batch, r registration.Registration,
	person Person) (done *registration.Registered, err error) {
	for try := 1; ; try++ {
		if r.Host.Operations["add-key"].SignIn != "password" {
			if r.Token, err = person.Token(r.Host); err != nil {
				return nil, err
			}
		}
		done, err = registration.Register(ctx, p, batch, r)
		var refusal *hostapi.Refusal
		wrong := errors.As(err, &refusal) && refusal.Status == http.StatusUnauthorized
		if !wrong || try == mostTries || person.Forget == nil || person.Again == nil ||
			!person.Again(r.Host.Name+" does not know this token") {
			return done, err
		}
		person.Forget(r.Host)
	}
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

// writePublic puts the public key of a private file beside it.
func writePublic(p site.Site, batch *workstation.Batch, path string) (string, error) {
	pair, err := sshkey.Load(path)
	if err != nil {
		return "", err
	}
	if pair.Public == nil {
		return "", sshkey.ErrLocked
	}
	name := p.Station.Tilde(path) + ".pub"
	_, err = batch.Edit(path+".pub", "Write the public key of "+pair.Name()+" beside it.", 0o644,
		func([]byte) ([]byte, error) {
			return []byte(sshkey.Line(pair.Public, keys.NewKey{}.CommentFor(p.Station)) + "\n"), nil
		})
	return name + " now matches the private key.", err
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
