package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/render/document"
)

// A PracticeView is a running practice host.
type PracticeView struct {
	Name, Title        string
	SSHPort, WebPort   int
	Description, Token string // files; there may be no token
	Account            string // whose token it is
	CloneURL           string
	CloneHTTPS         string // empty where git is not answered over HTTPS
	SignIn             string // what else it asks for; made up, and no secret
}

// Practice says where practice hosts are and how to begin.
func Practice(s Style, views []PracticeView) string {
	text := s.Sentences("These are up, on this computer alone. Ctrl-C ends them.")
	for _, v := range views {
		rows := []row{
			{label: v.Name, tone: bold, lines: []string{v.Title}},
			{label: "ports", tone: grey,
				lines: []string{fmt.Sprintf("%d for SSH, %d for the web, on 127.0.0.1", v.SSHPort, v.WebPort)}},
			{label: "clone URL", tone: grey, lines: []string{v.CloneURL}},
		}
		if v.CloneHTTPS != "" {
			rows = append(rows, row{lines: []string{v.CloneHTTPS}})
		}
		if v.SignIn != "" {
			rows = append(rows, row{label: "sign-in", tone: grey, text: v.SignIn})
		}
		if v.Token != "" {
			rows = append(rows, row{label: "token", tone: grey, lines: []string{v.Token}})
		}
		text += "\n" + s.block(9, rows) + CommandLine(s, "unicrux", "host", "add", v.Description)
	}
	return text + "\n" + s.Sentences("In another terminal, begin with one of the descriptions.")
}

// PracticeDocument makes the document of the practice hosts that run.
func PracticeDocument(views []PracticeView) any {
	return document.Practice{Schema: document.Schema("practice"),
		Hosts: document.Map(views, func(v PracticeView) document.PracticeHost {
			return document.PracticeHost{Name: v.Name, Title: v.Title, SSHPort: v.SSHPort, WebPort: v.WebPort,
				DescriptionPath: document.Path(v.Description), TokenPath: document.Text(document.Path(v.Token)),
				Account: v.Account, SSHURL: document.Text(v.CloneURL), HTTPSURL: document.Text(v.CloneHTTPS)}
		})}
}

// DemoStep announces a command of the journey.
func (s Style) DemoStep(say string, line []string) string {
	text := "\n"
	if say != "" {
		text += s.paint(teal, s.Sentences(say))
	}
	return text + s.paint(bold, "$ "+Command(line)) + "\n"
}

// DemoEnd tells how the journey ended, with the host's own view of what was pushed.
func DemoEnd(s Style, d *document.Demo, branch, commit, subject, author string) string {
	text := "\n" + s.Sentences(fmt.Sprintf("The host's own view: %s is at %.12s, “%s” by %s.", branch, commit,
		subject, author))
	for _, step := range d.Steps {
		if !step.Worked {
			text += s.paint(rose, s.Sentences(fmt.Sprintf("This went otherwise than it should (exit %d):",
				step.Exit))) + CommandLine(s, step.Command...)
		}
	}
	if d.Worked {
		text += s.paint(teal, s.Sentences("All of it worked."))
	}
	return text
}

// Stay says how to go on in the throwaway home from another terminal.
func Stay(s Style, home, sshCommand, token string) string {
	return "\n" + s.Sentences("Host and home stay until Ctrl-C. In another terminal:") +
		CommandLine(s, "export", "HOME="+home) + CommandLine(s, "export", "GIT_SSH_COMMAND="+sshCommand) +
		CommandLine(s, "cd", home) + s.Sentences("The token for the host's API is in:") + margin + token + "\n"
}

// A FaultView is something that a practice host can be told to do wrong.
type FaultView struct{ Code, By, Does string }

// Faults lists what a practice host can be told to do wrong.
func Faults(s Style, views []FaultView) string {
	var rows []row
	width := 0
	for _, v := range views {
		width = max(width, columns(v.Code))
		rows = append(rows, row{label: v.Code, tone: bold, text: v.Does + " " + "(" + v.By + ")"})
	}
	return s.block(width, rows) + "\n" +
		s.Sentences("A practice host that does one of them wrong, to try things on:") + CommandLine(s, "unicrux",
		"practice", "serve", "forge", "--fault", "CODE")
}

// FaultsDocument makes the document of what a practice host can be told to do wrong.
func FaultsDocument(views []FaultView) any {
	return document.Faults{Schema: document.Schema("faults"),
		Faults: document.Map(views, func(v FaultView) document.Fault {
			return document.Fault{Code: v.Code, Transports: strings.Split(v.By, ", "), Summary: v.Does}
		})}
}
