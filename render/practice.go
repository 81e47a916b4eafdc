package render

import (
	"fmt"
	"strconv"
)

// A PracticeView is a running practice host.
type PracticeView struct {
	Title              string
	SSHPort, WebPort   int
	Description, Token string // files
	Account            string // whose token it is
	CloneURL           string
}

// Practice says where a practice host is and how to begin.
func (s Style) Practice(v PracticeView) string {
	return s.Sentences(v.Title+" is up, on this computer alone. Ctrl-C ends it.") + "\n" +
		s.block(9, []row{
			{label: "ssh", tone: grey, lines: []string{"127.0.0.1 port " + strconv.Itoa(v.SSHPort)}},
			{label: "interface", tone: grey, lines: []string{"127.0.0.1 port " + strconv.Itoa(v.WebPort)}},
			{label: "clone URL", tone: grey, lines: []string{v.CloneURL}},
			{label: "token", tone: grey, lines: []string{v.Token}, text: ""},
		}) + "\n" + s.Sentences("In another terminal, begin with its description:") +
		s.CommandLine("unicrux", "host", "add", v.Description)
}

// PracticeDocument makes the document "unicrux.practice/1".
func PracticeDocument(v PracticeView) any {
	return struct {
		Schema      string `json:"schema"`
		Title       string `json:"title"`
		SSHPort     int    `json:"ssh_port"`
		WebPort     int    `json:"web_port"`
		Description string `json:"description_file"`
		Token       string `json:"token_file"`
		Account     string `json:"account"`
		CloneURL    string `json:"clone_url"`
	}{"unicrux.practice/1", v.Title, v.SSHPort, v.WebPort, v.Description, v.Token, v.Account, v.CloneURL}
}

// A DemoDocument is "unicrux.demo/1": what the journey did.
type DemoDocument struct {
	Schema string     `json:"schema"`
	Worked bool       `json:"worked"`
	Steps  []DemoStep `json:"steps"`
}

// A DemoStep is one command of the journey.
type DemoStep struct {
	Command []string `json:"command"`
	Exit    int      `json:"exit"`
	Worked  bool     `json:"worked"`
}

// Add puts a step at the end; one that went otherwise than it should spoils the whole.
func (d *DemoDocument) Add(command []string, exit int, worked bool) {
	d.Steps = append(d.Steps, DemoStep{command, exit, worked})
	d.Worked = d.Worked && worked
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
func (s Style) DemoEnd(d *DemoDocument, branch, commit, subject, author string) string {
	text := "\n" + s.Sentences(fmt.Sprintf("The host's own view: %s is at %.12s, “%s” by %s.", branch, commit, subject, author))
	for _, step := range d.Steps {
		if !step.Worked {
			text += s.paint(rose, s.Sentences(fmt.Sprintf("This went otherwise than it should (exit %d):", step.Exit))) + s.CommandLine(step.Command...)
		}
	}
	if d.Worked {
		text += s.paint(teal, s.Sentences("All of it worked."))
	}
	return text
}

// Stay says how to go on in the throwaway home from another terminal.
func (s Style) Stay(home, sshCommand, token string) string {
	return "\n" + s.Sentences("Host and home stay until Ctrl-C. In another terminal:") +
		s.CommandLine("export", "HOME="+home) + s.CommandLine("export", "GIT_SSH_COMMAND="+sshCommand) +
		s.CommandLine("cd", home) + s.Sentences("The token for the host's interface is in:") + margin + token + "\n"
}
