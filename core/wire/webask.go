package wire

import (
	"context"
	"errors"
	"net/http"
	"strings"
)

// ask asks for the advertisement of the service, and whether the service would be served: some hosts, and proxies
// before them, refuse only then.
func (w *webWalker) ask(ctx context.Context) error {
	answer := &w.met.Answer
	if err := w.asWhoever(answer, func() error { return w.get(ctx, w.web.Service, answer) }); err != nil {
		return err
	}
	if answer.Open && !answer.Files && !w.web.Hg && (answer.Refs > 0 || w.web.Service == "git-receive-pack") {
		open := *answer
		if err := w.asWhoever(answer, func() error { return w.probe(ctx, answer) }); err != nil {
			return err
		}
		if answer.Listed = true; answer.Status == http.StatusOK {
			*answer = open
		}
	}
	w.pass(AtService)
	if answer.Open {
		w.pass(AtService)
		return nil
	}
	if w.web.Instead != "" {
		if err := w.get(ctx, w.web.Instead, &w.met.Instead); err != nil {
			return err
		}
	}
	return w.fail(ErrStatus, answer.Message)
}

// mostSecrets is how many secrets git shows a host at most: that of its netrc file, and another one.
const mostSecrets = 2

// asWhoever asks first as nobody, then as whoever git would be.
func (w *webWalker) asWhoever(answer *WebAnswer, ask func() error) error {
	if err := ask(); err != nil {
		return err
	}
	for answer.Status == http.StatusUnauthorized && w.web.Credential != nil && w.refused < mostSecrets {
		w.met.Wanted = true
		user, word, err := w.web.Credential(w.refused)
		if err != nil {
			if w.refused == 0 {
				w.met.NoSecret = err
			}
			return w.fail(ErrDenied, answer.Message)
		}
		w.refused++
		w.user, w.word, w.met.User = user, word, user
		if err := ask(); err != nil {
			return err
		}
	}
	if answer.Status == http.StatusUnauthorized {
		return w.fail(ErrDenied, answer.Message)
	}
	return nil
}

// get asks for one advertisement ("info/refs" in gitprotocol-http(5)). Nothing is sent that could
// change the repository.
func (w *webWalker) get(ctx context.Context, service string, answer *WebAnswer) error {
	target := *w.web.Base
	switch {
	case w.web.Hg:
		target.RawQuery = "cmd=capabilities" // "HTTP Version 1 Transport" in Mercurial's internals.wireprotocol
	case target.RawQuery != "": // git puts the rest of the path behind a query (discover_refs in its sources)
		target.RawQuery = strings.TrimSuffix(target.RawQuery, "/") + "/info/refs&service=" + service
	default:
		target.Path = strings.TrimSuffix(target.Path, "/") + "/info/refs"
		target.RawQuery = "service=" + service
	}
	h, err := http.NewRequestWithContext(ctx, http.MethodGet, target.String(), nil)
	if err != nil {
		return w.fail(ErrStatus, "")
	}
	h.Header.Set("Accept", "*/*")
	if w.web.Hg {
		h.Header.Set("Accept", "application/mercurial-0.1")
	}
	return w.request(h, service, answer)
}

// probe sends the service a flush packet and nothing else, which asks for nothing [PACK]. git itself does so before it
// sends more than it could send again.
func (w *webWalker) probe(ctx context.Context, answer *WebAnswer) error {
	target := *w.web.Base
	if target.RawQuery != "" { // as in get
		target.RawQuery = strings.TrimSuffix(target.RawQuery, "/") + "/" + w.web.Service
	} else {
		target.Path = strings.TrimSuffix(target.Path, "/") + "/" + w.web.Service
	}
	h, err := http.NewRequestWithContext(ctx, http.MethodPost, target.String(), strings.NewReader(flushPacket))
	if err != nil {
		return w.fail(ErrStatus, "")
	}
	h.Header.Set("Content-Type", "application/x-"+w.web.Service+"-request")
	h.Header.Set("Accept", "application/x-"+w.web.Service+"-result")
	return w.request(h, "", answer)
}

func (w *webWalker) request(h *http.Request, service string, answer *WebAnswer) error {
	h.Header.Set("User-Agent", "git/2.0 (unicrux)") // hosts answer browsers with pages
	if w.web.Hg {
		h.Header.Set("User-Agent", "mercurial/proto-1.0 (unicrux)")
	}
	h.Header.Set("Pragma", "no-cache")
	if w.user != "" || !w.word.Empty() {
		word, err := w.word.ToOrigin(h.URL)
		if err != nil {
			return w.fail(ErrDenied, "")
		}
		h.SetBasicAuth(w.user, string(word.Reveal()))
	}
	set := map[string]bool{}
	for _, text := range w.web.Headers { // they win over the library's own, and go along twice if they are there twice
		name, value, found := strings.Cut(text, ":")
		name = http.CanonicalHeaderKey(strings.TrimSpace(name))
		if found && !set[name] {
			h.Header.Del(name)
		}
		if found {
			set[name] = true
			h.Header.Add(name, strings.TrimSpace(value))
		}
	}
	response, err := w.line.Do(h)
	if err != nil {
		return w.requestFailure(err)
	}
	defer response.Body.Close() // read as far as it is wanted
	w.met.Date, _ = http.ParseTime(response.Header.Get("Date"))
	answer.read(response, service)
	answer.Open = answer.Open && !w.web.Hg || answer.Hg && w.web.Hg
	for _, way := range response.Header.Values("WWW-Authenticate") {
		scheme, _, _ := strings.Cut(way, " ")
		w.met.Realm, w.met.Schemes = clip(way), append(w.met.Schemes, strings.ToLower(scheme))
	}
	return nil
}

func (w *webWalker) requestFailure(err error) error {
	var failure *Failure
	switch {
	case errors.As(err, &failure): // of another connection
		return failure
	case isTimeout(err):
		return w.fail(ErrSilent, "")
	case w.asked && wantsOwn(err):
		return w.fail(ErrOwn, "")
	}
	return w.fail(ended(err), "")
}
