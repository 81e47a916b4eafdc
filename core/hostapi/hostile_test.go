package hostapi

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"strings"
	"testing"
	"time"
)

const repos = "[operations.list-repos]\npath = \"repos\"\nitems = \"$.list\"\nfields = { path = \"$.p\" }\n"

// TestAnswersThatAreNot has what a hostile host may answer: each ends in bounded time with an
// error that says what is wrong.
func TestAnswersThatAreNot(t *testing.T) {
	t.Parallel()
	elsewhere := false
	page := 0
	for _, row := range []struct {
		name, operations string
		answer           http.HandlerFunc
		want             error
	}{
		{"a page for signing in", who, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			_, _ = fmt.Fprint(w, "<html>")
		}, ErrPage},
		{"a page that calls itself JSON", who, func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = fmt.Fprint(w, " <!doctype html>")
		}, ErrPage},
		{"nothing there", who, func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = fmt.Fprint(w, `{"account":[]}`)
		}, ErrAnswer},
		{"two documents", who, func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = fmt.Fprint(w, `{"account":{"name":"a"}}{}`)
		}, ErrAnswer},
		{"elsewhere", who, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://elsewhere.example/base/me", http.StatusFound)
		}, ErrRedirect},
		{"out of the interface", who, func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/base/me" {
				elsewhere = true
			}
			http.Redirect(w, r, "/other", http.StatusTemporaryRedirect)
		}, ErrRedirect},
		{"round and round", who, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/base/me", http.StatusFound)
		}, ErrRedirect},
		{"without end", who, func(w http.ResponseWriter, _ *http.Request) {
			for range maxAnswer/1024 + 2 {
				_, _ = w.Write(bytes.Repeat([]byte(" "), 1024))
			}
		}, ErrAnswer},
		{"packed", who, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			for range 64 {
				_, _ = z.Write(bytes.Repeat([]byte(" "), 1<<20))
			}
			_ = z.Close()
		}, ErrAnswer},
		{"deeply nested", who, func(w http.ResponseWriter, _ *http.Request) {
			_,
				_ = w.Write(bytes.Repeat([]byte("["), 100_000))
		}, ErrAnswer},
		{"deeply nested objects", who, func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write(bytes.Repeat([]byte(`{"a":`), 100_000))
		}, ErrAnswer},
		{"the same page for ever", repos + "paging = { by = \"next\", at = \"$.next\" }\n",
			func(w http.ResponseWriter, _ *http.Request) {
				_, _ = fmt.Fprint(w, `{"list":[{"p":"a"}],"next":"repos?page=2"}`)
			}, ErrEndless},
		{"ever new pages", repos + "paging = { by = \"next\", at = \"$.next\" }\n",
			func(w http.ResponseWriter, _ *http.Request) {
				page++
				_, _ = fmt.Fprintf(w, `{"list":[{"p":"a%d"}],"next":"repos?page=%d"}`, page, page)
			}, ErrEndless},
		{"the next page elsewhere", repos + "paging = { by = \"link\" }\n",
			func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Link", `<https://elsewhere.example/base/repos>; rel="next"`)
				_, _ = fmt.Fprint(w, `{"list":[]}`)
			}, ErrRedirect},
		{"the next page with somebody in it", repos + "paging = { by = \"next\", at = \"$.next\" }\n",
			func(w http.ResponseWriter, r *http.Request) {
				_, _ = fmt.Fprintf(w, `{"list":[{"p":"a"}],"next":"https://a:b@%s/base/"}`, r.Host)
			}, ErrRedirect},
		{"huge headers", who, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("X",
				strings.Repeat("x", 200_000))
		}, ErrUnreachable},
		{"no list", repos, func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprint(w, `{"a":1}`) }, ErrAnswer},
	} {
		client := speaking(t, row.operations, row.answer)
		_, err := client.Who(t.Context())
		if errors.Is(err, ErrNoOperation) {
			err = client.Repos(t.Context(), "", func(Repo) bool { return true })
		}
		if !errors.Is(err, row.want) {
			t.Errorf("%s: %v, want %v", row.name, err, row.want)
		}
		if err != nil && strings.Contains(err.Error(), "token-of-ines") {
			t.Errorf("%s: the token got out: %v", row.name, err)
		}
	}
	if elsewhere {
		t.Error("something was asked outside the interface")
	}
}

// TestSlowBytes gives up in time on an answer that drips, and at once when it is called off.
func TestSlowBytes(t *testing.T) {
	t.Parallel()
	drip := func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			_, _ = w.Write([]byte(" "))
			w.(http.Flusher).Flush()
			runtime.Gosched()
		}
	}
	client := speaking(t, who, drip)
	client.Timeout = 50 * time.Millisecond
	if _, err := client.Who(t.Context()); !errors.Is(err, ErrUnreachable) && !errors.Is(err, ErrAnswer) {
		t.Errorf("dripping: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	called := speaking(t, who, func(_ http.ResponseWriter, r *http.Request) {
		cancel()
		<-r.Context().Done()
	})
	if _, err := called.Who(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("called off: %v", err)
	}
}

// TestManyItems takes a long list as it comes, without keeping it.
func TestManyItems(t *testing.T) {
	t.Parallel()
	client := speaking(t, "[operations.list-repos]\npath = \"repos{?page}\"\nitems = \"$\"\nfields = { path = \"$.p\" }\npaging = { by = \"page\" }\n", func(w http.ResponseWriter, r *http.Request) {
		n := 0
		_, _ = fmt.Sscan(r.URL.Query().Get("page"), &n)
		if n > 50 {
			_, _ = fmt.Fprint(w, "[]")
			return
		}
		_, _ = fmt.Fprint(w, "["+strings.Repeat(`{"p":"x"},`, 99)+fmt.Sprintf(`{"p":"%d"}]`, n))
	})
	seen := 0
	if err := client.Repos(t.Context(), "", func(Repo) bool { seen++; return true }); err != nil || seen != 5000 {
		t.Errorf("%d, %v", seen, err)
	}
	seen = 0
	if err := client.Repos(t.Context(), "", func(Repo) bool { seen++; return seen < 150 }); err != nil || seen != 150 {
		t.Errorf("stopped: %d, %v", seen, err)
	}
}
