package waiting_test

import (
	"context"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/waiting"
)

type noted struct{ list *[]string }

func (n noted) At(stage string) { *n.list = append(*n.list, stage) }
func (n noted) Over()           { *n.list = append(*n.list, "over") }

// TestOn: who shows it hears of the host, of each stage and of the end; without anybody nothing happens.
func TestOn(t *testing.T) {
	t.Parallel()
	var list []string
	ctx := waiting.With(t.Context(), func(host string) waiting.Place {
		list = append(list, host)
		return noted{&list}
	})
	for _, ctx := range []context.Context{ctx, t.Context(), waiting.As(ctx, "forge"), waiting.As(t.Context(), "")} {
		place := waiting.On(ctx, "forge.tidewater.example")
		place.At("reach")
		place.At("sign-in")
		place.Over()
	}
	if got := strings.Join(list, " "); got != "forge.tidewater.example reach sign-in over forge reach sign-in over" {
		t.Error(got)
	}
}
