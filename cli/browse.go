package cli

import (
	"os/exec"
	"runtime"
	"strings"

	"anchorage.example/unicrux/holder"
)

// openPage opens a web page of a host in the person's browser, and says where it is in any case. The page is one that
// the host's description names; nothing else is ever opened.
func openPage(a *app, page string) {
	if !strings.HasPrefix(page, "https://") {
		a.progress("Nothing says which of the host's web pages it is.")
		return
	}
	name, args := "xdg-open", []string{page}
	switch runtime.GOOS {
	case "darwin":
		name = "open"
	case "windows":
		name, args = "rundll32", []string{"url.dll,FileProtocolHandler", page}
	}
	program, err := exec.LookPath(name)
	if err == nil {
		cmd := exec.Command(program, args...) // not of the run: Ctrl-C ends the waiting, and not the browser
		cmd.Env = a.Environ
		holder.Detach(cmd)
		err = cmd.Start()
	}
	if err != nil {
		a.progress("No browser could be opened here. The page is " + page)
	}
}
