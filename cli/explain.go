package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/render"
)

func explainCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "explain [FILE|CODE]",
		Short: "Read an error text of git, ssh or hg, and name its likely causes",
		Long: `Reads an error text from standard input or a file, and names what may have caused it, the
most likely first, with what would tell one from another. A text often cannot tell alone:
then that is said. Nothing is tried and nothing is changed; "unicrux check" tries.
With a code, as "unicrux check" names them, it says what the code means and how it is mended.`,
		RunE: func(_ *cobra.Command, args []string) error { return runExplain(a, args) },
	}
}

func runExplain(a *app, args []string) error {
	if len(args) == 1 {
		if code, found := causes.Find(args[0]); found {
			about := causes.AboutOf(code)
			return a.show(render.About(a.style(), about), render.AboutDocument(about))
		}
	}
	text, err := errorText(a, args)
	if errors.Is(err, fs.ErrNotExist) {
		return neither(args[0])
	}
	if err != nil {
		return err
	}
	if text == "" {
		return usage("there is no text to explain: pipe it in, or name a file")
	}
	read := causes.Explain(text)
	return a.show(render.Reading(a.style(), read), render.ReadingDocument(read))
}

// neither is the answer to what is no file and no code. Codes that begin alike may be meant.
func neither(name string) error {
	begin, _, _ := strings.Cut(name, "-")
	var near, all []string
	for _, code := range causes.AllCodes() {
		all = append(all, code.String())
		if strings.HasPrefix(code.String(), begin+"-") {
			near = append(near, code.String())
		}
	}
	failed := &problem{message: fmt.Sprintf("%q is neither a file that is here nor a code.", name), exit: exitUsage,
		advice: "To explain a text, pipe it in, or name a file."}
	if one := suggest.Nearest(name, all); one != "" {
		failed.advice = "Did you mean unicrux explain " + one + "?"
	} else if len(near) > 0 {
		failed.advice = "These codes begin alike: " + strings.Join(near, ", ") + "."
	}
	return failed
}

// longestText bounds what is read; of longer ones the end counts.
const longestText = 256 << 20

// errorText reads the text from a file or from standard input, and keeps its end.
func errorText(a *app, args []string) (string, error) {
	from := a.In
	if len(args) == 1 && args[0] != "-" {
		file, err := regular.OpenStream(args[0])
		if err != nil {
			return "", fmt.Errorf("the text cannot be read: %w", err)
		}
		defer file.Close() // it was only read
		from = file
	} else if term.IsTerminal(int(from.Fd())) {
		if a.noInput {
			return "", &problem{message: "There is no text: standard input is a terminal.",
				advice: "Pipe the text in, or name a file.", exit: exitAsk}
		}
		a.echo()
		a.say("  Paste the text, then press Enter and Ctrl-D.\n")
	}
	var kept []byte
	buffer := make([]byte, causes.MaxText)
	for total := 0; total < longestText; {
		n, err := from.Read(buffer)
		total += n
		if kept = append(kept, buffer[:n]...); len(kept) > 2*causes.MaxText {
			kept = kept[len(kept)-causes.MaxText:]
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return "", fmt.Errorf("the text cannot be read: %w", err)
		}
	}
	return string(kept), nil
}
