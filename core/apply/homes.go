package apply

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// An Order is what is to be settled in a home: what cannot be settled for the whole machine. The process that does it
// reads it.
type Order struct {
	Absent     []string `json:"absent"`     // hosts that nobody is to describe
	Distrusted []string `json:"distrusted"` // host keys, as public lines
	Dry        bool     `json:"dry"`
}

// OrderOf is what a state asks for in each home.
func OrderOf(state *declared.State, dry bool) Order {
	o := Order{Absent: state.Absent, Dry: dry}
	for _, d := range state.Distrust {
		o.Distrusted = append(o.Distrusted, sshkey.Line(d.Key, ""))
	}
	return o
}

// A HomeDone is what was, or would be, done in a home. The process that does it writes it.
type HomeDone struct {
	Done   []string `json:"done"`   // a sentence for each step
	Change int      `json:"change"` // in the record of that home; 0 for none
}

// SettleHome does in the home of whoever runs this what was ordered, as one recorded change: their own undo takes it
// back. The batch says whether it is a dry run.
func SettleHome(ctx context.Context, batch *workstation.Batch, station *workstation.Station, order Order) error {
	registry, err := hosts.Open(station)
	if err != nil {
		return err
	}
	for _, name := range order.Absent {
		i := slices.IndexFunc(registry.Hosts, func(d *describe.Description) bool { return d.Name == name })
		if i < 0 || registry.Hosts[i].Managed != "" {
			continue
		}
		if err := hosts.Drop(ctx, batch, station, registry, name); err != nil {
			return err
		}
	}
	var keys []ssh.PublicKey
	for _, line := range order.Distrusted {
		key, _, err := sshkey.ParseLine([]byte(line))
		if err != nil {
			return err
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil
	}
	for _, name := range []string{"known_hosts", "known_hosts2"} {
		_, err := batch.Edit(filepath.Join(station.SSHDir(), name),
			"Forget host keys that the administrator distrusts.",
			0o600, func(old []byte) ([]byte, error) {
				if len(old) == 0 {
					return old, nil
				}
				return knownhosts.WithoutKeys(old, keys), nil
			})
		if err != nil {
			return err
		}
	}
	return nil
}

// A HomeResult is what became of a home.
type HomeResult struct {
	Home accounts.Home
	HomeDone
	Why string // the home could not be settled; empty where it was
}

// Limits for the process that settles a home: it runs with the rights of somebody who may want to hinder us.
const (
	homePatience = time.Minute
	homeDelay    = time.Second
	mostOfHome   = 1 << 20
)

// InHomes settles homes, each by a process of its own that has the rights of the owner and nothing of ours in its
// environment. words are the command that reads an [Order] and writes a [HomeDone].
func InHomes(ctx context.Context, homes []accounts.Home, order Order, program string, words ...string) []HomeResult {
	var list []HomeResult
	text, err := json.Marshal(order)
	if err != nil {
		panic(err) // texts can always be written
	}
	for _, home := range homes {
		if home.Person == "" { // nobody could take it back
			continue
		}
		r := HomeResult{Home: home}
		if r.HomeDone, err = inHome(ctx, home, text, program, words); err != nil {
			r.Why = untrusted.Clean(err.Error())
		}
		list = append(list, r)
	}
	return list
}

func inHome(ctx context.Context, home accounts.Home, order []byte, program string, words []string) (HomeDone, error) {
	var done HomeDone
	ctx, cancel := context.WithTimeout(ctx, homePatience)
	defer cancel()
	command := exec.CommandContext(ctx, program, words...)
	command.Dir, command.Stdin = "/", bytes.NewReader(order)
	command.Env = []string{"HOME=" + home.Path, "USER=" + home.Person, "LOGNAME=" + home.Person,
		"PATH=/usr/local/bin:/usr/bin:/bin", "LC_ALL=C.UTF-8"}
	if err := become(command, home.Who); err != nil {
		return done, err
	}
	said, text := bounded{most: mostOfHome}, bounded{most: mostOfHome}
	// what it starts may keep its output open: nobody waits for that
	command.Stdout, command.Stderr, command.WaitDelay = &text, &said, homeDelay
	if err := command.Run(); err != nil {
		return done, fmt.Errorf("%w: %s", err, strings.Join(strings.Fields(string(said.text)), " "))
	}
	if err := json.Unmarshal(text.text, &done); err != nil {
		return done, err
	}
	for i, sentence := range done.Done {
		done.Done[i] = untrusted.Clean(sentence)
	}
	return done, nil
}

// bounded keeps what a process writes, up to so many bytes: more is an error, by which the process ends.
type bounded struct {
	text []byte
	most int
}

func (b *bounded) Write(more []byte) (int, error) {
	if len(b.text)+len(more) > b.most {
		return 0, errors.New("it writes more than it has to say")
	}
	b.text = append(b.text, more...)
	return len(more), nil
}
