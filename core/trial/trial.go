// Package trial tries what is only claimed: what a description says of a host's API, and what a token may do.
package trial

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// A Trial is one thing that a description says, and what came of trying it.
type Trial struct {
	Operation string
	State     TrialState
	Message   string // uncleaned: the host's are among them
	Err       error
	Took      time.Duration
}

// A TrialState says how a trial ended.
type TrialState string

// The states of trials.
const (
	Works    TrialState = "works"
	Fails    TrialState = "fails"
	NotTried TrialState = "not tried" // for the reason in its words
	Lacking  TrialState = "manual"    // the description does not say how
)

// trials tries what a description says, one after another.
type trials struct {
	place  site.Site
	batch  *workstation.Batch
	client *hostapi.Client
	list   []Trial
	report func(Trial)
	repo   string // one that the account may write to
	missed int    // how many trials in a row did not reach the host
}

// mostMissed is after how many trials in a row that did not reach the host no other is made: each may
// take as long as the limit of time for one.
const mostMissed = 2

// API tries what the description of a host says: what changes nothing, and with
// changes also what does, on a throwaway key and a throwaway token that are taken back. Each
// trial is reported as it ends.
func API(ctx context.Context, p site.Site, batch *workstation.Batch, client *hostapi.Client, changes bool,
	report func(Trial)) []Trial {
	t := &trials{place: p, batch: batch, client: client, report: report}
	t.look(ctx)
	if changes {
		t.change(ctx)
	}
	for _, name := range describe.Names() {
		tried := slices.ContainsFunc(t.list, func(trial Trial) bool { return trial.Operation == name })
		switch {
		case tried:
		case !client.Description.Can(name):
			t.add(Trial{Operation: name, State: Lacking})
		case describe.Operations[name].Changes && !changes:
			t.add(Trial{Operation: name, State: NotTried, Message: "it changes something: --changes tries it"})
		}
	}
	return t.list
}

func (t *trials) add(trial Trial) {
	t.list = append(t.list, trial)
	t.report(trial)
}

// try tries an operation that the description has, and tells what came.
func (t *trials) try(name string, do func() (string, error)) bool {
	if !t.client.Description.Can(name) {
		return false
	}
	if t.wantsPassword(name) {
		t.skip(name, "the host requires the account's password for it: --account, --password-from")
		return false
	}
	if t.missed == mostMissed {
		t.skip(name, "the host could not be reached twice before")
		return false
	}
	start := time.Now()
	words, err := do()
	trial := Trial{Operation: name, State: Works, Message: words, Err: err, Took: time.Since(start)}
	if err != nil {
		trial.State = Fails
	}
	if t.missed++; !errors.Is(err, hostapi.ErrUnreachable) {
		t.missed = 0
	}
	t.add(trial)
	return err == nil
}

// wantsPassword reports whether an operation wants an account's password, and nobody gives one.
func (t *trials) wantsPassword(name string) bool {
	return t.client.Description.Operations[name].SignIn == "password" && t.client.Password.Empty() &&
		t.client.SignIn == nil
}

func (t *trials) skip(name, why string) {
	if t.client.Description.Can(name) {
		t.add(Trial{Operation: name, State: NotTried, Message: why})
	}
}

// look tries what changes nothing.
func (t *trials) look(ctx context.Context) {
	c := t.client
	t.try("host-keys", func() (string, error) {
		keys, prints, err := c.HostKeys(ctx)
		if err == nil && len(keys)+len(prints) == 0 {
			err = fmt.Errorf("%w: it publishes none", hostapi.ErrAnswer)
		}
		return count(len(keys)+len(prints), "key"), err
	})
	t.try("who", func() (string, error) { return c.Who(ctx) })
	t.try("list-keys", func() (string, error) {
		keys, err := c.Keys(ctx, hostapi.KeyList{})
		return count(len(keys), "key"), err
	})
	t.try("list-signing-keys", func() (string, error) {
		keys, err := c.Keys(ctx, hostapi.KeyList{Signing: true})
		return count(len(keys), "key"), err
	})
	t.try("list-tokens", func() (string, error) {
		tokens, err := c.Tokens(ctx)
		return count(len(tokens), "token"), err
	})
	t.try("show-token", func() (string, error) {
		token, err := c.ShowToken(ctx)
		if err != nil {
			return "", err
		}
		return strings.Join(token.Scopes, ", "), nil
	})
	t.lookAtRepos(ctx)
	t.lookAtOAuth(ctx)
}

// mostLooked bounds how far a list of repositories is read for a trial.
const mostLooked = 500

func (t *trials) lookAtRepos(ctx context.Context) {
	c, some := t.client, ""
	t.try("list-repos", func() (string, error) {
		n := 0
		err := c.Repos(ctx, "", func(repo hostapi.Repo) bool {
			may := repo.Access == hostapi.Write || repo.Access == "" // where the host does not tell, it is tried
			if n++; some == "" || (t.repo == "" && may) {
				some = repo.Path
			}
			if may && t.repo == "" {
				t.repo = repo.Path
			}
			return n < mostLooked
		})
		words := count(n, "repository")
		if n == mostLooked {
			words = "at least " + words
		}
		return words, err
	})
	if some == "" {
		t.skip("show-repo", "no repository is known to ask about")
		t.skip("list-repo-keys", "no repository is known to ask about")
		return
	}
	t.try("show-repo", func() (string, error) {
		repo, err := c.Repo(ctx, some)
		return repo.Path, err
	})
	if t.repo == "" {
		t.skip("list-repo-keys", "no repository is known that this account may write to")
		return
	}
	t.try("list-repo-keys", func() (string, error) {
		keys, err := c.Keys(ctx, hostapi.KeyList{Repo: t.repo})
		return count(len(keys), "key") + " for " + t.repo, err
	})
}

func (t *trials) lookAtOAuth(ctx context.Context) {
	if t.client.Description.OAuth.Client == "" || t.missed == mostMissed {
		return
	}
	start := time.Now()
	server, err := oauth.Discover(ctx, t.client.Description)
	trial := Trial{Operation: "oauth", State: Works, Err: err, Took: time.Since(start)}
	if err != nil {
		trial.State = Fails
	} else {
		trial.Message = "signing in at " + server.Device
	}
	t.add(trial)
}

// change tries what changes something, and takes it back.
func (t *trials) change(ctx context.Context) {
	t.tryKey(ctx, hostapi.KeyList{})
	t.tryKey(ctx, hostapi.KeyList{Signing: true})
	if t.repo != "" {
		t.tryKey(ctx, hostapi.KeyList{Repo: t.repo})
	} else {
		t.skip("add-repo-key", "no repository is known that this account may write to")
		t.skip("remove-repo-key", "no repository is known that this account may write to")
	}
	t.tryToken(ctx)
	t.skip("add-repo", "a repository could not be taken back")
}

// throwaway makes a key that nobody keeps. Where the host does not take ed25519, nothing is
// tried.
func throwaway() (ssh.PublicKey, error) {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// tryKey registers a throwaway key, looks whether the host lists it, and takes it back, even
// when it is called off meanwhile.
func (t *trials) tryKey(ctx context.Context, which hostapi.KeyList) {
	d := t.client.Description
	add, remove, list := which.Operation("add"), which.Operation("remove"), which.Operation("list")
	if !d.Can(add) {
		return
	}
	if !d.Can(remove) {
		t.skip(add, "what it does could not be taken back: the description lacks "+remove)
		return
	}
	key, err := throwaway()
	if err != nil {
		t.skip(add, err.Error())
		return
	}
	request := hostapi.KeyRequest{Key: key, Title: "Unicrux tries this", List: which,
		Until: time.Now().AddDate(0, 0, 1)}
	if errors.Is(hostapi.CanTell(d, request), hostapi.ErrNoUntil) {
		request.Until = time.Time{}
	}
	there := hostapi.RegisteredKey{Title: request.Title, Key: key}
	step := workstation.HostStep{Host: d.Name, Act: hosts.ActAdd,
		Data: map[string]string{"fingerprint": sshkey.Fingerprint(key), "title": request.Title}}
	which.Note(step.Data)
	added := t.try(add, func() (string, error) {
		err := t.batch.Act(ctx, "Register a throwaway key with "+d.Name+".", step, func() (map[string]string, error) {
			there.ID, err = t.client.AddKey(ctx, request)
			return map[string]string{"id": there.ID}, err
		})
		if err != nil || !d.Can(list) {
			return "", err
		}
		return t.listed(ctx, which, &there)
	})
	_ = added // what was added and not listed is taken back as well
	t.try(remove, func() (string, error) {
		if there.ID == "" && !added {
			return "", errors.New("nothing was registered")
		}
		ctx := context.WithoutCancel(ctx)
		step := workstation.HostStep{Host: d.Name, Act: hosts.ActRemove,
			Data: map[string]string{"fingerprint": sshkey.Fingerprint(key), "line": ""}}
		which.Note(step.Data)
		err := t.batch.Act(ctx, "Withdraw the throwaway key from "+d.Name+".", step, func() (map[string]string, error) {
			return nil, t.client.RemoveKey(ctx, there, which)
		})
		if err != nil || !d.Can(list) {
			return "", err
		}
		if _, err := t.listed(ctx, which, &there); err == nil {
			return "", errors.New("the host still lists it")
		}
		return "taken back", nil
	})
}

// listed looks whether the host lists a key that it was told about.
func (t *trials) listed(ctx context.Context, which hostapi.KeyList, there *hostapi.RegisteredKey) (string, error) {
	keys, err := t.client.Keys(ctx, which)
	if err != nil {
		return "", err
	}
	found := registration.FindRegistered(keys, there.Key)
	if found == nil {
		return "", errors.New("the host does not list it afterwards")
	}
	there.ID = found.ID
	words := "it is listed"
	if !found.Until.IsZero() {
		words += ", until " + found.Until.Format(time.DateOnly)
	}
	return words, nil
}

// tryToken issues a throwaway token, uses it, renews and revokes it.
func (t *trials) tryToken(ctx context.Context) {
	d := t.client.Description
	if !d.Can("issue-token") {
		return
	}
	if t.wantsPassword("issue-token") {
		t.skip("issue-token", "the host requires the account's password for it: --account, --password-from")
		t.skip("renew-token", "there is no throwaway token")
		t.skip("revoke-token", "there is no throwaway token")
		return
	}
	var issued *hostapi.IssuedToken
	request := hostapi.TokenRequest{Label: "Unicrux tries this", Until: time.Now().AddDate(0, 0, 1)}
	for _, purpose := range describe.Purposes() { // the first that the host knows is enough
		if len(d.Purposes[purpose]) > 0 {
			request.Purposes = []string{purpose}
			break
		}
	}
	worked := t.try("issue-token", func() (words string, err error) {
		issued, err = t.client.IssueToken(ctx, request)
		if err != nil {
			return "", err
		}
		if !d.Can("who") {
			return "", nil
		}
		who, err := t.place.Client(d, d.Bind(issued.Token)).Who(ctx)
		return "it is " + who + "'s", err
	})
	if !worked && issued == nil {
		t.skip("renew-token", "there is no throwaway token")
		t.skip("revoke-token", "there is no throwaway token")
		return
	}
	t.renewAndRevoke(context.WithoutCancel(ctx), issued, request)
}

func (t *trials) renewAndRevoke(ctx context.Context, issued *hostapi.IssuedToken, request hostapi.TokenRequest) {
	all := []*hostapi.IssuedToken{issued}
	t.try("renew-token", func() (string, error) {
		renewed, err := t.place.Client(t.client.Description, t.client.Description.Bind(issued.Token)).RenewToken(ctx,
			issued.ID, request)
		if err == nil {
			all = append(all, renewed)
		}
		return "", err
	})
	t.try("revoke-token", func() (string, error) {
		for _, token := range all {
			own := t.place.Client(t.client.Description, t.client.Description.Bind(token.Token))
			if err := own.RevokeToken(ctx, token.ID); err != nil {
				if err = t.client.RevokeToken(ctx, token.ID); err != nil {
					return "", err
				}
			}
			if t.client.Description.Can("who") {
				if _, err := own.Who(ctx); err == nil {
					return "", errors.New("the host still accepts it")
				}
			}
		}
		return "taken back", nil
	})
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "y") && !strings.HasSuffix(noun, "ey") {
		noun = strings.TrimSuffix(noun, "y") + "ie"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
