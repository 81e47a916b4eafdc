package effective

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// manners are the keywords that people set most, with values of which the client is asked
// once how it prints them. "#" stands for a number, "/" for a path without anything that the
// client would replace, "." for a name. What is not here, or bears on other settings too, the
// client prints itself each time.
var manners = map[string][]string{
	"addkeystoagent": {"yes", "no", "ask"}, "addressfamily": {"any", "inet", "inet6"}, "certificatefile": {"/"},
	"checkhostip": {"yes", "no"}, "compression": {"yes", "no"}, "connectionattempts": {"#"}, "connecttimeout": {"#"},
	"exitonforwardfailure": {"yes", "no"}, "fingerprinthash": {"sha256", "md5"}, "forwardagent": {"yes", "no"},
	"forwardx11":           {"yes", "no"},
	"gssapiauthentication": {"yes", "no"}, "gssapidelegatecredentials": {"yes", "no"}, "hashknownhosts": {"yes", "no"},
	"hostkeyalias": {"."}, "identitiesonly": {"yes", "no"}, "identityagent": {"/"}, "identityfile": {"/"},
	"kbdinteractiveauthentication": {"yes", "no"},
	"loglevel":                     {"QUIET", "ERROR", "INFO", "VERBOSE", "DEBUG"},
	"passwordauthentication":       {"yes", "no"}, "port": {"#"},
	"pubkeyauthentication": {"yes", "no"}, "requesttty": {"auto", "no", "yes", "force"}, "sendenv": {"."},
	"serveralivecountmax": {"#"}, "serveraliveinterval": {"#"},
	"stricthostkeychecking": {"ask", "yes", "no", "accept-new"},
	"tcpkeepalive":          {"yes", "no"}, "updatehostkeys": {"yes", "no", "ask"}, "user": {"."},
	"visualhostkey": {"yes", "no"},
}

// instances stand for a form when the client is asked about it.
var instances = map[string]string{"#": "1729", "/": "~/.ssh/a_b-1.c", ".": "Some-name_1.x"}

// knownClient is what the installed client is known to print: without any settings, and for
// values of common keywords. It is learned by asking the client, and kept for a day.
type knownClient struct {
	Of    string            // which client, for whom: another is asked anew
	Bare  []line            // without any settings
	Order []string          // of keywords
	Says  map[string]string // for "KEYWORD VALUE", or "KEYWORD FORM": then the value itself, if this is the form
}

// learnedFor is how long the client is believed to stay as it is when its file does.
const learnedFor = 24 * time.Hour

// learned tells what the installed client prints, from what was kept, or by asking it.
func learned(ctx context.Context, station *workstation.Station) (*knownClient, error) {
	program, err := exec.LookPath("ssh")
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(program)
	if err != nil {
		return nil, err
	}
	of := fmt.Sprint(program, info.Size(), info.ModTime().UnixNano(), station.User, station.SSHHome,
		station.Getenv("SSH_SK_PROVIDER"))
	var client knownClient
	if text, ok := station.Cached("ssh-client", learnedFor); ok && json.Unmarshal(text, &client) == nil &&
		client.Of == of {
		return &client, nil
	}
	asked, err := ask(ctx)
	if err != nil {
		return nil, err
	}
	asked.Of = of
	if text, err := json.Marshal(asked); err == nil {
		station.Keep("ssh-client", text)
	}
	return asked, nil
}

// ask lets the client print each of the values above, one of each keyword at a time.
func ask(ctx context.Context) (*knownClient, error) {
	bare, err := printed(ctx, "host.example", nil)
	if err != nil {
		return nil, err
	}
	client := &knownClient{Bare: bare, Says: map[string]string{}}
	for round, more := 0, true; more; round++ {
		more = false
		var text strings.Builder
		for keyword, values := range manners {
			value := values[round%len(values)]
			text.WriteString(keyword + " " + instance(value) + "\n")
			more = more || round+1 < len(values)
		}
		lines, err := printed(ctx, "host.example", []byte(text.String()))
		if err != nil {
			return nil, err
		}
		client.learn(lines, round)
	}
	return client, nil
}

func instance(value string) string {
	if text, found := instances[value]; found {
		return text
	}
	return value
}

func (c *knownClient) learn(lines []line, round int) {
	c.Order = c.Order[:0]
	for _, l := range lines {
		if !slices.Contains(c.Order, l.Name) {
			c.Order = append(c.Order, l.Name)
		}
		values := manners[l.Name]
		if len(values) == 0 {
			continue
		}
		value := values[round%len(values)]
		if form := instance(value); form == value || form == l.Value {
			c.Says[l.Name+" "+value] = l.Value
		}
	}
}

// print writes what the client would print for settings, or says that it cannot know.
func (c *knownClient) print(settings *sshconfig.Settings) ([]line, bool) {
	host := settings.Query.Host
	set := map[string][]line{"host": {{"host", host}}, "hostname": {{"hostname", settings.Client().HostName}}}
	for _, w := range settings.Winners() {
		if w.Keyword == "hostname" {
			if !isForm(".", w.Values[0].Text()) {
				return nil, false
			}
			continue
		}
		for _, value := range w.Values {
			for _, word := range value.Args {
				text, known := c.says(w.Keyword, word)
				if !known || len(value.Args) > 1 && w.Keyword != "sendenv" || strings.Contains(value.Text(), `"`) {
					return nil, false
				}
				set[w.Keyword] = append(set[w.Keyword], line{w.Keyword, text})
			}
		}
	}
	bare := map[string][]line{}
	for _, l := range c.Bare {
		bare[l.Name] = append(bare[l.Name], l)
	}
	var lines []line
	for _, name := range c.Order {
		if own, found := set[name]; found {
			lines = append(lines, own...)
		} else {
			lines = append(lines, bare[name]...)
		}
	}
	return lines, true
}

func (c *knownClient) says(keyword, word string) (string, bool) {
	if text, found := c.Says[keyword+" "+word]; found {
		return text, len(word) > 1
	}
	for form := range instances {
		if _, found := c.Says[keyword+" "+form]; found && isForm(form, word) {
			return word, true
		}
	}
	return "", false
}

// isForm tells whether a value is of a form that the client prints as it stands.
func isForm(form, word string) bool {
	if word == "" || word[0] == '-' || strings.EqualFold(word, "none") {
		return false
	}
	if form == "#" {
		return len(word) < 6 && word[0] != '0' && strings.Trim(word, "0123456789") == ""
	}
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-"
	if form == "/" {
		return (word[0] == '/' || strings.HasPrefix(word, "~/")) && strings.Trim(word[1:], letters+"/") == ""
	}
	return strings.Trim(word, letters+"*") == ""
}
