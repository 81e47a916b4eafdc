package sshway

import (
	"context"
	"encoding/base64"
	"os/exec"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// commandPatience bounds a command of the settings, and mostTold what it may say.
const (
	commandPatience = 10 * time.Second
	mostTold        = 1 << 20
)

// RunLine runs the command of a Match exec in the person's shell, as ssh does, and tells whether it succeeded
// (ssh_config(5), "Match").
func RunLine(ctx context.Context, station *workstation.Station, line string) bool {
	ctx, cancel := context.WithTimeout(ctx, commandPatience)
	defer cancel()
	shell := station.Getenv("SHELL")
	if shell == "" {
		shell = "/bin/sh"
	}
	cmd := exec.CommandContext(ctx, shell, "-c", line)
	cmd.Env, cmd.WaitDelay = station.Environ, time.Second
	return cmd.Run() == nil
}

// runWords runs a command without a shell and returns what it says; nothing where it fails.
func runWords(ctx context.Context, station *workstation.Station, words []string) []byte {
	ctx, cancel := context.WithTimeout(ctx, commandPatience)
	defer cancel()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env, cmd.WaitDelay = station.Environ, time.Second
	out, err := cmd.Output()
	if err != nil {
		return nil
	}
	return out[:min(len(out), mostTold)]
}

// told asks the command of the settings about the key that a host shows ("KnownHostsCommand" in ssh_config(5)); nil
// where there is none.
func (w *Way) told(key ssh.PublicKey) *knownhosts.Known {
	words := w.Settings.KnownHostsCommand(w.Client.KnownHostsName, key.Type(),
		base64.StdEncoding.EncodeToString(key.Marshal()), sshkey.Fingerprint(key))
	if len(words) == 0 {
		return nil
	}
	return knownhosts.InText(w.run(words), "KnownHostsCommand", w.Client.KnownHostsName)
}
