package holder

import (
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/Microsoft/go-winio"
	"golang.org/x/sys/windows"

	"anchorage.example/unicrux/core/peer"
)

// ownerOnly: access lists, which a folder inherits, say who may enter.
const ownerOnly = false

// lockPath is a file for the lock: a pipe has no folder.
func lockPath(socket string) string {
	return filepath.Join(os.TempDir(), strings.TrimPrefix(socket, `\\.\pipe\`)+".lock")
}

// listen opens a named pipe for this user alone: its access list names nobody else.
func listen(socket string) (net.Listener, error) {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil, err
	}
	return winio.ListenPipe(socket,
		&winio.PipeConfig{SecurityDescriptor: "D:P(A;;GA;;;" + user.User.Sid.String() + ")"})
}

// listensAt tells whether the pipe is there. It goes with its server alone.
func listensAt(string) bool { return true }

// noFollow: links in the folder of temporary files are only made by this user.
const noFollow = 0

// Listens tells whether this user serves a pipe.
func Listens(socket string) bool {
	pipe, err := peer.Dial(socket)
	return err == nil && pipe.Close() == nil
}

func isMine(fs.FileInfo) bool { return true }

// Detach gives the process no console, so that it survives this one's.
func Detach(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.DETACHED_PROCESS | windows.CREATE_NEW_PROCESS_GROUP}
}

// fromSelf is answered by the access list of the pipe before anybody is connected.
func fromSelf(net.Conn) bool { return true }

// peek reads nothing: from a pipe only what is waited for comes.
func peek(net.Conn) []byte { return nil }
