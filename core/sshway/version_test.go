package sshway

import "testing"

func TestIsSince(t *testing.T) {
	t.Parallel()
	for words, want := range map[string]bool{
		"OpenSSH_9.2p1 Debian-2+deb12u7, OpenSSL 3.0.17\n": false, "OpenSSH_9.6p1, LibreSSL 3.3.6": true,
		"OpenSSH_9.10p1": true, "OpenSSH_10.0p2": true,
		"OpenSSH_for_Windows_9.5p1, LibreSSL 3.8.2": false, "OpenSSH_for_Windows_9.8p2": true,
		"another 99.9": false, "": false,
	} {
		if got := isSince(words, 9, 6); got != want {
			t.Errorf("%q: %v", words, got)
		}
	}
}
