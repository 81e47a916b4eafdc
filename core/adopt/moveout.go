package adopt

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
)

// moveOut takes what is in the chest now out of where it lay, a file at a time, and puts that back which
// git does not get then.
func moveOut(ctx context.Context, p site.Site, batch *workstation.Batch, list []Adopted, moves []move) error {
	var files []string
	in := map[string][]int{}
	for i, a := range list {
		if a.Name == "" || a.Err != nil {
			continue
		}
		if file := a.Stray.File; in[file] == nil {
			files = append(files, file)
		}
		in[a.Stray.File] = append(in[a.Stray.File], i)
	}
	taken := map[string]stripped{}
	for _, file := range files {
		t, err := strip(ctx, p, batch, file, straysAt(list, in[file]))
		if err != nil {
			for _, i := range in[file] {
				list[i].Err = err
			}
			continue
		}
		taken[file] = t
	}
	prove(ctx, p, list, moves)
	for _, file := range files {
		good := slices.DeleteFunc(slices.Clone(in[file]), func(i int) bool { return list[i].Err != nil })
		t, out := taken[file]
		if !out || len(good) == len(in[file]) {
			continue
		}
		if err := putBack(ctx, p, batch, file, t, straysAt(list, good)); err != nil {
			return err
		}
	}
	return nil
}

func straysAt(list []Adopted, which []int) []plainsecrets.Stray {
	var strays []plainsecrets.Stray
	for _, i := range which {
		strays = append(strays, list[i].Stray)
	}
	return strays
}

// A stripped is a file before and after secrets were taken out of it.
type stripped struct{ before, after []byte }

func strip(ctx context.Context, p site.Site, batch *workstation.Batch, file string,
	gone []plainsecrets.Stray) (t stripped, err error) {
	what := "the secret for " + gone[0].At
	if len(gone) > 1 {
		what = fmt.Sprintf("%d secrets", len(gone))
	}
	edit := gitlink.EditOf{Path: file, Words: fmt.Sprintf("Take %s out of %s.", what, p.Station.Tilde(file)),
		Mode: 0o600, Secret: true}
	_, err = gitlink.ChangeText(batch, edit, func(old []byte) (_ []byte, err error) {
		t.before = old
		t.after, err = without(ctx, p, gone, old)
		return t.after, err
	})
	return t, err
}

// putBack leaves out of a file those alone that git gets from the chest.
func putBack(ctx context.Context, p site.Site, batch *workstation.Batch, file string, t stripped,
	gone []plainsecrets.Stray) error {
	edit := gitlink.EditOf{Path: file, Words: "Put back what git did not get.", Mode: 0o600, Secret: true}
	_, err := gitlink.ChangeText(batch, edit, func(now []byte) ([]byte, error) {
		if !bytes.Equal(now, t.after) { // somebody was at work meanwhile: what they wrote stays
			return now, nil
		}
		return without(context.WithoutCancel(ctx), p, gone, t.before)
	})
	return err
}

// without is the text of a file without strays. Their lines may have moved since they were found, so
// they are looked for anew.
func without(ctx context.Context, p site.Site, gone []plainsecrets.Stray, text []byte) ([]byte, error) {
	if len(gone) == 0 {
		return text, nil
	}
	// a file of git's has no others
	if s := gone[0]; s.Sort == plainsecrets.RemoteURL || s.Sort == plainsecrets.Header {
		return withoutIn(ctx, p, gone, text)
	}
	marks := map[string]bool{}
	for _, s := range gone {
		marks[strayMark(s)] = true
	}
	found := slices.DeleteFunc(plainsecrets.InText(gone[0].Sort, gone[0].File, text),
		func(f plainsecrets.Stray) bool { return !marks[strayMark(f)] })
	return plainsecrets.Without(gone[0].Sort, text, found), nil
}

func strayMark(s plainsecrets.Stray) string {
	return strings.Join([]string{string(s.Sort), s.At, s.User, string(s.Secret.Reveal())}, "\x00")
}

// withoutIn is the text of a file of git's settings without the secrets in URLs and headers.
func withoutIn(ctx context.Context, p site.Site, gone []plainsecrets.Stray, text []byte) ([]byte, error) {
	type place struct{ key, value string }
	sorts := map[place]plainsecrets.Sort{}
	for _, s := range gone {
		sorts[place{strings.ToLower(s.Key), s.Value}] = s.Sort
	}
	entries, err := gitlink.EntriesOf(text)
	if err != nil {
		return nil, err
	}
	var keys []string
	values := map[string][]string{}
	for _, entry := range entries {
		if _, known := values[entry.Key]; !known {
			keys, values[entry.Key] = append(keys, entry.Key), nil
		}
		value := entry.Value
		switch sorts[place{strings.ToLower(entry.Key), value}] {
		case plainsecrets.Header:
			continue
		case plainsecrets.RemoteURL:
			value = withoutPassword(value)
		}
		values[entry.Key] = append(values[entry.Key], value)
	}
	var assignments []gitlink.Assignment
	for _, key := range keys {
		assignments = append(assignments, gitlink.Assignment{Key: key, Values: values[key]})
	}
	return gitlink.Assign(ctx, p.Station, text, assignments)
}

// askedEach is how many hosts git itself is asked for, of those for which it asks the same helpers in the
// same order: what holds for these holds for the others.
const askedEach = 10

// prove asks git for what was moved, and notes [ErrNotAnswered] where it does not come out of the chest.
func prove(ctx context.Context, p site.Site, list []Adopted, moves []move) {
	type account struct{ at, user string }
	answered, unasked := map[account]bool{}, map[account]bool{}
	asked := map[string]int{}
	alike, err := chains(ctx, p)
	for _, m := range moves {
		a := &list[m.at]
		if a.Err != nil || a.Name == "" {
			continue
		}
		of := account{m.kept.Entry.At, m.kept.Entry.User}
		good, known := answered[of]
		if !known {
			chain, plain := "", false
			if err == nil {
				chain, plain = alike(of.at)
			}
			unasked[of] = plain && asked[chain] >= askedEach
			if good = unasked[of]; !good {
				answer, err := gitlink.Fill(ctx, p.Station, gitlink.Credential{Protocol: "https",
					Host: of.at, User: of.user})
				good = err == nil && fromChest(p, of.at, of.user, answer)
			}
			if answered[of] = good; good {
				asked[chain]++
			}
		}
		if a.Alike = unasked[of]; !good {
			a.Err = ErrNotAnswered
		}
	}
}

// chains tells which helpers git asks for a host. They are plain where nobody is asked before us but
// git's store helper, which has nothing for that host: then the chest answers.
func chains(ctx context.Context, p site.Site) (func(at string) (chain string, plain bool), error) {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return nil, err
	}
	stored := map[string]bool{}
	for _, s := range plainsecrets.InStore(p.Station, config) {
		stored[s.At] = true
	}
	about := config.About("credential")
	return func(at string) (string, bool) {
		var chain []string
		plain, ours := !stored[allow.LowerHost(at)], false
		for _, s := range about("https://" + at) {
			chain = append(chain, s.Name+"="+s.Entry.Value)
			if s.Name == "credential.helper" && !ours {
				ours = hosts.IsHelper(s.Entry.Value)
				plain = plain && (ours || strings.Fields(s.Entry.Value)[0] == "store")
			}
		}
		return strings.Join(chain, "\n"), plain && ours
	}, nil
}

// fromChest tells whether an answer of git's is one of the chest's for that host. Where several
// secrets lay about for one account, git gets one of them.
func fromChest(p site.Site, at, user string, answer secret.Text) bool {
	c := tokens.Chest(p)
	list, _ := c.At("https", at)
	return slices.ContainsFunc(list, func(e chest.Entry) bool {
		if !e.Fits(user, "") {
			return false
		}
		kept, err := c.Get(e)
		return err == nil && kept.Token.Equal(answer)
	})
}

// withoutPassword leaves the user name in a URL: by that git knows which account is meant.
func withoutPassword(text string) string {
	at, err := url.Parse(text)
	if err != nil {
		return text
	}
	if _, set := at.User.Password(); set {
		at.User = url.User(at.User.Username())
	} else {
		at.User = nil
	}
	return at.String()
}
