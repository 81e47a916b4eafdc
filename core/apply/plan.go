package apply

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

// head is the first line of the files of settings that are ours.
const head = "# Kept by Unicrux (version 1). To change it: unicrux apply\n"

// planned is a state while its files are made.
type planned struct {
	state   *declared.State
	o       Options
	station *workstation.Station
	files   []file
	marks   []mark // of the files, for [Deviations]
}

// plan makes all files that a state declares, in the order in which they are put there: what others rest on first.
func plan(ctx context.Context, station *workstation.Station, state *declared.State, o Options) ([]file, error) {
	p := &planned{state: state, o: o, station: station}
	before, err := readMarks(o.Places)
	if err != nil {
		return nil, err
	}
	if err := p.policy(); err != nil {
		return nil, err
	}
	settled, err := p.hosts()
	if err != nil {
		return nil, err
	}
	if err := p.hostKeys(settled); err != nil {
		return nil, err
	}
	if err := p.ssh(settled); err != nil {
		return nil, err
	}
	if err := p.git(ctx, settled); err != nil {
		return nil, err
	}
	p.absent(before)
	if err := p.alone(); err != nil {
		return nil, err
	}
	return p.chosen(before), nil
}

// add plans a file that is ours.
func (p *planned) add(part Part, name, path, summary string, text []byte) {
	p.files = append(p.files, file{part: part, name: name, path: path, summary: summary, isOurs: true,
		compute: whole(text)})
	p.marks = append(p.marks, mark{Part: part, Path: path, SHA256: hashOf(text)})
}

func (p *planned) policy() error {
	text := p.state.Policy
	if text == nil {
		return nil
	}
	if _, err := policy.Parse(text); err != nil {
		var wrong *strict.Error
		if errors.As(err, &wrong) {
			return p.state.Wrong("policy", fmt.Sprintf("line %d of it: %s: %s", wrong.Line, wrong.Place, wrong.Message))
		}
		return err
	}
	p.add(Policy, "", filepath.Join(p.o.Places.Machine, "policy.toml"), "Keep the policy of the machine.", text)
	return nil
}

// A settledHost is what the machine's files say of a host.
type settledHost struct {
	declared.Host
	all hosts.ForAll
}

// hosts plans the descriptions, and settles how each host is reached.
func (p *planned) hosts() ([]settledHost, error) {
	var list []settledHost
	for i, h := range p.state.Hosts {
		d, place := h.Description, fmt.Sprintf("host[%d].settings", i)
		authority, text := "", h.Authority
		switch {
		case text != nil && d.HTTPS.Authority != "":
			return nil, p.state.Wrong(place+".authority", "the description of "+d.Name+" has an authority already")
		case text == nil:
			text = []byte(d.HTTPS.Authority)
		case !x509.NewCertPool().AppendCertsFromPEM(text):
			return nil, p.state.Wrong(place+".authority", "a file with certificates (PEM) is needed")
		}
		p.add(Host, d.Name, hosts.MachineFile(p.o.Places.Machine, d.Name, ".toml"),
			fmt.Sprintf("Describe %s for everybody.", d.Name), h.Text)
		if len(text) > 0 {
			authority = hosts.MachineFile(p.o.Places.Machine, d.Name, ".pem")
			p.add(Host, d.Name, authority, fmt.Sprintf("Keep the certificate authority of %s.", d.Name), text)
		}
		all, err := hosts.SettleForAll(d, p.o.Program, authority, h.Settings)
		if err != nil {
			return nil, p.state.Wrong(place, err.Error())
		}
		list = append(list, settledHost{h, all})
	}
	return list, nil
}

// ssh plans the file of settings for ssh.
func (p *planned) ssh(settled []settledHost) error {
	text := []byte(head)
	for _, h := range settled {
		if len(h.all.SSH) == 0 {
			continue
		}
		for _, s := range h.all.SSH {
			if p.startsUntrusted(s.Line) {
				return p.untrusted("host")
			}
		}
		block, err := sshconfig.SetInBlock(nil, []string{h.all.HostName}, h.all.SSH)
		if err != nil {
			return err
		}
		text = append(append(text, '\n'), block...)
	}
	path := hosts.MachineSSHFile(p.o.Places.SSH)
	if len(text) > len(head) {
		p.add(Host, "", path, "Settle how ssh reaches the hosts, for everybody.", text)
	} else {
		p.gone(Host, path, "Take out how ssh reaches hosts.")
	}
	return nil
}

// startsUntrusted tells that a setting starts this program, and that others can replace it.
func (p *planned) startsUntrusted(text string) bool {
	return p.o.Program != "" && strings.Contains(text, p.o.Program) && !p.station.Trusted(p.o.Program)
}

// untrusted is the error for settings for everybody that would start a program which others can replace.
func (p *planned) untrusted(place string) error {
	return p.state.Wrong(place, fmt.Sprintf("git or ssh would start %s for everybody, and others than root can change "+
		"that file: install Unicrux where only root can, and run that one", p.o.Program))
}

// gone plans that a file of ours is not there.
func (p *planned) gone(part Part, path, summary string) {
	p.files = append(p.files, file{part: part, path: path, summary: summary, isOurs: true})
}

// git plans the file of git's settings, and that git reads it.
func (p *planned) git(ctx context.Context, settled []settledHost) error {
	var list []gitlink.Assignment
	for _, h := range settled {
		list = append(list, h.all.Git...)
	}
	if p.state.InPlace {
		list = append(list, gitlink.Assignment{Key: "core.sshCommand",
			Values: []string{gitlink.OurSSH(p.o.Program)}}, gitlink.Assignment{Key: "ssh.variant",
			Values: []string{"ssh"}})
	}
	list = slices.DeleteFunc(list, func(a gitlink.Assignment) bool { return len(a.Values) == 0 })
	path := hosts.MachineGitFile(p.o.Places.Machine)
	include := gitlink.Assignment{Key: "include.path", Values: []string{filepath.ToSlash(path)}, Beside: true}
	lead := file{part: Git, path: p.o.Places.Git, isGit: true,
		summary: "Include the settings of Unicrux for everybody.",
		compute: func(old []byte) ([]byte, error) {
			return gitlink.Assign(ctx, p.station, old, []gitlink.Assignment{include})
		}}
	for _, a := range list {
		if p.startsUntrusted(strings.Join(a.Values, " ")) {
			return p.untrusted("git")
		}
	}
	if len(list) > 0 {
		text, err := gitlink.Assign(ctx, p.station, []byte(head), list)
		if err != nil {
			return err
		}
		p.add(Git, "", path, "Settle how git reaches the hosts, for everybody.", text)
		p.files = append(p.files, lead)
		return nil
	}
	if _, err := os.Stat(p.o.Places.Git); err == nil {
		include.Beside, include.Without = false, true
		lead.summary = "No longer include the settings of Unicrux."
		p.files = append(p.files, lead)
	}
	p.gone(Git, path, "Take out how git reaches hosts.")
	return nil
}

// absent plans that what is not declared is not there: hosts that the state says so of, and what an earlier state put
// there and this one does not name. What somebody edited since stays.
func (p *planned) absent(before []mark) {
	for _, name := range p.state.Absent {
		for _, ending := range []string{".toml", ".pem"} {
			path := hosts.MachineFile(p.o.Places.Machine, name, ending)
			p.files = append(p.files, file{part: Host, name: name, path: path, isOurs: true,
				summary: fmt.Sprintf("No longer describe %s for everybody.", name)})
		}
	}
	for _, m := range before {
		isPlanned := slices.ContainsFunc(p.files, func(f file) bool { return f.path == m.Path })
		if isPlanned || m.Part == record || !isBelow(m.Path, p.o.Places.Machine) {
			continue // what is in files of others is theirs
		}
		name := ""
		if m.Part == Host {
			name = strings.TrimSuffix(filepath.Base(m.Path), filepath.Ext(m.Path))
		}
		p.files = append(p.files, file{part: m.Part, name: name, path: m.Path, unless: m.SHA256, isOurs: true,
			summary: "Remove what the state no longer names."})
	}
}

// isBelow tells whether a file is in our folder or in the one of descriptions.
func isBelow(path, folder string) bool {
	dir := filepath.Dir(path)
	return dir == folder || dir == filepath.Join(folder, "hosts")
}

// alone refuses a state that describes a host which a file that is not of it describes as well: then neither would
// count beyond doubt.
func (p *planned) alone() error {
	folder := filepath.Join(p.o.Places.Machine, "hosts")
	entries, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, entry := range entries {
		path := filepath.Join(folder, entry.Name())
		ours := slices.ContainsFunc(p.files, func(f file) bool { return f.path == path })
		if ours || !strings.HasSuffix(path, ".toml") {
			continue
		}
		d, _, err := describe.ReadFile(path)
		if err != nil {
			continue // it describes nothing
		}
		for i, h := range p.state.Hosts {
			if h.Description.Name == d.Name || h.Description.HostName() == d.HostName() {
				return p.state.Wrong(fmt.Sprintf("host[%d]", i), path+" describes the same host")
			}
		}
	}
	return nil
}

// chosen are the files of the parts that are to be settled, and the records of what was applied behind them.
func (p *planned) chosen(before []mark) []file {
	isChosen := func(part Part) bool { return len(p.o.Only) == 0 || slices.Contains(p.o.Only, part) }
	files := slices.DeleteFunc(p.files, func(f file) bool { return !isChosen(f.part) })
	marks := slices.DeleteFunc(p.marks, func(m mark) bool { return !isChosen(m.Part) })
	for _, m := range before {
		if !isChosen(m.Part) && m.Part != record {
			marks = append(marks, m)
		}
	}
	if len(p.o.Only) == 0 {
		path := declared.File(p.o.Places.Machine)
		files = append(files, file{part: record, path: path, isOurs: true, summary: "Keep the state that was applied.",
			compute: whole(p.state.Text)})
		marks = append(marks, mark{Part: record, Path: path, SHA256: hashOf(p.state.Text)})
	} else if i := slices.IndexFunc(before, func(m mark) bool { return m.Part == record }); i >= 0 {
		marks = append(marks, before[i])
	}
	return append(files, file{part: record, path: p.o.Places.marks(), isOurs: true, summary: "Note what was applied.",
		compute: whole(writeMarks(marks))})
}
