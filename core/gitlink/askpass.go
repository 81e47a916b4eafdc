package gitlink

import (
	"context"
	"slices"
	"strings"
	"time"
)

// askPatience bounds how long a program that asks may take to answer by itself.
const askPatience = 5 * time.Second

// AskPass is the program by which git asks a person, and where it stands: empty where git asks on the terminal
// (GIT_ASKPASS, core.askPass and SSH_ASKPASS in gitcredentials(7)).
func (c *Config) AskPass() (program, origin string) {
	if text := c.station.Getenv("GIT_ASKPASS"); text != "" {
		return text, "environment: GIT_ASKPASS"
	}
	if entry, found := c.Last("core.askpass"); found && entry.Value != "" {
		return entry.Value, entry.Origin
	}
	if text := c.station.Getenv("SSH_ASKPASS"); text != "" {
		return text, "environment: SSH_ASKPASS"
	}
	return "", ""
}

// leads are parts of the names of variables that lead to a screen, or to another program that has one and could ask
// somebody there, as editors do for the terminals in them.
var leads = []string{"DISPLAY", "BUS_ADDRESS", "IPC", "SOCK", "HANDLE", "PIPE"}

// FillByAsking lets git start the program that asks, for those that answer by themselves, as a script does that
// was set up for a machine. It has neither a screen nor a terminal, nor a way to a program that has, so that
// nobody is asked.
func (c *Config) FillByAsking(ctx context.Context, asked Credential) (Credential, error) {
	if program, _ := c.AskPass(); program == "" {
		return Credential{}, ErrNoCredential
	}
	ctx, cancel := context.WithTimeout(ctx, askPatience)
	defer cancel()
	alone := *c.Asked()
	alone.Environ = slices.DeleteFunc(slices.Clone(alone.Environ), func(line string) bool {
		name, _, _ := strings.Cut(line, "=")
		return slices.ContainsFunc(leads, func(part string) bool { return strings.Contains(name, part) })
	})
	out, err := runCredential(ctx, &alone, "fill", asked, withoutTerminal, "-c", "credential.helper=")
	if err != nil {
		return Credential{}, ErrNoCredential
	}
	return filled(asked, out)
}
