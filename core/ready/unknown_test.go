package ready_test

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/fixture"
)

// forgotten is a practice host that nobody has described, and somebody who knows its fingerprint and its web page.
func forgotten(t *testing.T) (*fixture.Site, ready.Person) {
	t.Helper()
	s := fixture.At(t, "forge")
	if err := hosts.Drop(t.Context(), s.Batch(), s.Station, s.Registry, "forge"); err != nil {
		t.Fatal(err)
	}
	s.Reload()
	return s, ready.Person{
		Secrets: s.Secrets(""), Learn: func() string { return "" },
		Vouch: func(ctx context.Context, seen *trust.Seen) (*trust.Voucher, error) {
			return seen.Given(ctx, s.Host.HostKeyPrint())
		},
		Paste: func(r registration.Registration) (time.Duration, error) {
			page := &hostapi.Client{Description: s.Description, Token: s.Owner()}
			_, err := page.AddKey(t.Context(), hostapi.KeyRequest{Key: r.Pair.Public, Title: "pasted"})
			return time.Minute, err
		},
	}
}

func steps(t *testing.T, s *fixture.Site, request finding.Request, person ready.Person) (*ready.Opening, string,
	error) {
	t.Helper()
	request.Ask = finding.NobodyAsks
	var list []ready.Step
	opening, err := ready.Open(t.Context(), s.Site, request, person,
		func(step ready.Step) { list = append(list, step) })
	s.Reload()
	return opening, codes(list), err
}

// TestUnknownOverSSH: the host is learned, its key compared with what the person says, and hers accepted; what nobody
// does is where it stops.
func TestUnknownOverSSH(t *testing.T) {
	t.Parallel()
	s, person := forgotten(t)
	request := finding.Request{Argument: fmt.Sprintf("ssh://git@127.0.0.1:%d/buoys/drift-model.git", s.Host.SSHPort())}
	way, err := diagnose.Check(t.Context(), s.Station, s.Registry, finding.Request{Argument: request.Argument,
		Ask: finding.NobodyAsks})
	if err != nil {
		t.Fatal(err)
	}
	plan := ready.Foresee(t.Context(), s.Site, way, person)
	var words []string
	for _, step := range plan {
		words = append(words, step.Summary)
	}
	if text := strings.Join(words, " "); len(plan) != 4 || !strings.Contains(text, "Learn the host 127.0.0.1") ||
		!strings.Contains(text, "that you paste") || !plan[1].ByHand || plan[2].ByHand || !plan[3].ByHand {
		t.Errorf("the plan: %+v", plan)
	}
	if plan := ready.Foresee(t.Context(), s.Site, way, ready.Person{}); len(plan) != 0 {
		t.Errorf("a plan where nobody is there: %+v", plan)
	}

	nobody := ready.Person{Secrets: person.Secrets, Learn: person.Learn}
	opening, done, err := steps(t, s, request, nobody)
	if err != nil || opening.Way.IsOpen() || done != "host-key-unknown" {
		t.Errorf("nobody vouches: %s, %v", done, err)
	}
	if _, err := s.Registry.Find("host-127-0-0-1"); err != nil {
		t.Error(err)
	}
	opening, done, err = steps(t, s, request, person)
	if err != nil || !opening.Way.IsOpen() || done != "host-key-unknown key-none key-not-registered" {
		t.Errorf("%s, %v, %+v", done, err, opening.Way.Crux)
	}
	// Another server at the same name: another port is another host, with a key of its own to compare.
	second := fixture.At(t, "lantern")
	other := finding.Request{Argument: fmt.Sprintf("ssh://git@127.0.0.1:%d/tools/lamp-oil.git", second.Host.SSHPort())}
	person.Vouch = func(ctx context.Context, seen *trust.Seen) (*trust.Voucher, error) {
		return seen.Given(ctx, second.Host.HostKeyPrint())
	}
	person.Paste = nil
	opening, done, err = steps(t, s, other, person)
	if err != nil || done != "host-key-unknown" || opening.Way.Question.Host !=
		fmt.Sprintf("host-127-0-0-1:%d", second.Host.SSHPort()) {
		t.Errorf("at another port: %s, %v, %+v", done, err, opening.Way.Question)
	}
	if stored := s.Read(".ssh", "known_hosts"); !strings.Contains(stored,
		fmt.Sprintf("[127.0.0.1]:%d", second.Host.SSHPort())) {
		t.Errorf("stored:\n%s", stored)
	}
	config := s.Read(".ssh", "unicrux.conf")
	if strings.Contains(config, "Port") || strings.Contains(config, "User git") {
		t.Errorf("ssh's own settings:\n%s", config)
	}
}

// TestUnknownOverHTTPS: the certificate is compared, and a token kept only after git's own request has proved it.
func TestUnknownOverHTTPS(t *testing.T) {
	t.Parallel()
	s, person := forgotten(t)
	s.OpenChest()
	s.Program = fixture.Program(t)
	clone := s.Host.CloneHTTPS("buoys/drift-model")
	at, err := url.Parse(clone)
	if err != nil {
		t.Fatal(err)
	}
	s.Write(fmt.Sprintf("[http \"https://%s/\"]\n\tcurloptResolve = %s:%s:127.0.0.1\n", at.Host, at.Hostname(),
		at.Port()), ".gitconfig")
	compared := errors.New("not compared")
	person.VouchCA = func(string, *x509.Certificate) error { return compared }
	request := finding.Request{Argument: clone, Purpose: finding.Push}
	if _, done, err := steps(t, s, request, person); !errors.Is(err, compared) || done != "tls-authority-unknown" {
		t.Errorf("%s, %v", done, err)
	}
	compared = nil
	given := []string{"ines.marlow nonsense-token-of-nobody", "ines.marlow -"}
	account, token := "", ""
	person.Account = func(*describe.Description) (string, error) {
		account, token, _ = strings.Cut(given[0], " ")
		given = given[1:]
		return account, nil
	}
	person.TokenToKeep = func(*describe.Description) (secret.Text, error) {
		if token == "-" {
			token = s.Host.Issue("ines.marlow", "pasted", []string{"repo:read", "repo:write"}, time.Time{})
		}
		return secret.New([]byte(token)), nil
	}
	if o, done, err := steps(t, s, request, person); !errors.Is(err, ready.ErrRefusedToken) {
		t.Errorf("a wrong token: %v after %s at %+v", err, done, o.Way.Crux)
	}
	if list, err := tokens.Chest(s.Site).List(); err != nil || len(list) != 0 {
		t.Errorf("kept: %v, %v", list, err)
	}
	given = append([]string{"ines.marlow nonsense-token-of-nobody"}, given...)
	again := 0
	person.Again = func(string) bool { again++; return true }
	if _, done, err := steps(t, s, request, person); err != nil || again != 1 || done != "secret-missing" {
		t.Errorf("asked again %d times: %s, %v", again, done, err)
	}
	list, err := tokens.Chest(s.Site).List()
	if err != nil || len(list) != 1 || list[0].Account != "ines.marlow" || list[0].At != at.Host ||
		list[0].Proved.IsZero() {
		t.Errorf("kept: %+v, %v", list, err)
	}
}
