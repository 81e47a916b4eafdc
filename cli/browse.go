package cli

import (
	"os/exec"
	"runtime"
	"strings"
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
		cmd := exec.CommandContext(a.ctx, program, args...)
		cmd.Env = a.Environ
		err = cmd.Start()
		if err == nil {
			go func() { _ = cmd.Wait() }() // a browser ends when it likes
		}
	}
	if err != nil {
		a.progress("No browser could be opened here. The page is " + page)
	}
}
