package effective

import (
	"bytes"
	"context"
	"os/exec"
	"strings"

	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// A line is one that the client prints: a keyword and a value.
type line struct{ Name, Value string }

// printed lets the installed client print what it makes of settings for one host. They come
// through a pipe: nothing is written anywhere.
func printed(ctx context.Context, host string, settings []byte) ([]line, error) {
	cmd := exec.CommandContext(ctx, "ssh", "-G", "-F", "/dev/stdin", "--", host)
	cmd.Stdin = bytes.NewReader(settings)
	out, err := cmd.Output()
	if err != nil {
		return nil, err
	}
	var lines []line
	for text := range strings.Lines(string(out)) {
		name, value, _ := strings.Cut(strings.TrimRight(text, "\r\n"), " ")
		lines = append(lines, line{strings.ToLower(name), value})
	}
	return lines, nil
}

// print tells the lines that the client prints for settings, and those that it prints without
// any: from what is known of the client, or else by letting it print.
func print(ctx context.Context, station *workstation.Station, settings *sshconfig.Settings) (set,
	bare []line, err error) {
	client, err := learned(ctx, station)
	if err != nil {
		set, err = printed(ctx, settings.Query.Host, settings.Flat())
		return set, nil, err
	}
	set, known := client.print(settings)
	if !known {
		set, err = printed(ctx, settings.Query.Host, settings.Flat())
	}
	return set, client.Bare, err
}
