package peer

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// Dial opens a named pipe that this very user serves. Whoever serves it learns who we are, and
// cannot act as us (SECURITY_IDENTIFICATION, "Impersonation Levels" in the Windows documentation).
// The error is [ErrStranger] where somebody else serves it.
func Dial(pipe string) (*os.File, error) {
	name, err := windows.UTF16PtrFromString(pipe)
	if err != nil {
		return nil, err
	}
	handle, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, 0, nil, windows.OPEN_EXISTING,
		windows.SECURITY_SQOS_PRESENT|windows.SECURITY_IDENTIFICATION, 0)
	if err != nil {
		return nil, err
	}
	if err := servedBySelf(handle); err != nil {
		return nil, errors.Join(err, windows.CloseHandle(handle))
	}
	return os.NewFile(uintptr(handle), pipe), nil
}

func servedBySelf(pipe windows.Handle) error {
	var pid uint32
	if err := windows.GetNamedPipeServerProcessId(pipe, &pid); err != nil {
		return err
	}
	process, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, pid)
	if err != nil {
		return ErrStranger
	}
	defer windows.CloseHandle(process) // opened for asking
	var token windows.Token
	if err := windows.OpenProcessToken(process, windows.TOKEN_QUERY, &token); err != nil {
		return ErrStranger
	}
	defer token.Close() // opened for asking
	server, err := token.GetTokenUser()
	if err != nil {
		return err
	}
	self, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return err
	}
	if !windows.EqualSid(server.User.Sid, self.User.Sid) {
		return ErrStranger
	}
	return nil
}
