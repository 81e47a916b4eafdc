package render

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/look"
)

// TestBrief: a line for each matter, each with what helps, and no more than fit above a prompt.
func TestBrief(t *testing.T) {
	t.Parallel()
	list := []look.Matter{{Topic: look.ExposedKey, Path: "/home/ines/.ssh/id_rsa"},
		{Topic: look.MovedProgram, Path: "/opt/unicrux"},
		{Topic: look.Token, Name: "forge", Until: noon.AddDate(0, 0, 9)}}
	want := "  Others can read the private key ~/.ssh/id_rsa: chmod 600 ~/.ssh/id_rsa\n" +
		"  Your settings start Unicrux at /opt/unicrux, where it no longer is: unicrux check --mend\n" +
		"  The token forge expires in 9 days (2026-12-02): unicrux token renew forge\n"
	if got := Brief(Style{}, list, noon, tilde); got != want {
		t.Errorf("%s", got)
	}
	for i := range 2 {
		list = append(list, look.Matter{Topic: look.Certificate, Path: fmt.Sprintf("/home/ines/.ssh/k%d", i),
			Until: noon.Add(-time.Hour)})
	}
	if got := Brief(Style{}, list, noon, tilde); got != want+"  And 2 things more: unicrux look\n" {
		t.Errorf("%s", got)
	}
	got := Brief(Style{}, list[3:4], noon, tilde)
	if !strings.HasPrefix(got, "  The certificate of ~/.ssh/k0 expired today") {
		t.Errorf("%s", got)
	}
	if got := Brief(Style{}, nil, noon, tilde); got != "" {
		t.Errorf("%q", got)
	}
}
