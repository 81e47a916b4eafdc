// Command calibration says how often "explain" is right that says how likely it is (make corpus): what says 90 %
// should be right nine times of ten.
//
//	go run ./calibration DIR
//
// DIR holds an answer of "explain --json" for each text, and verdicts.tsv: the text's name in the first column, and
// in the fifth the codes that are right for it, with a comma between them.
package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: calibration DIR")
		os.Exit(2)
	}
	answers, err := read(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	write(os.Stdout, answers)
}

// An answer is how likely the first cause of a text was said to be, and whether it is the right one.
type answer struct {
	likelihood float64
	right      bool
}

func read(dir string) ([]answer, error) {
	verdicts, err := os.ReadFile(filepath.Join(dir, "verdicts.tsv"))
	if err != nil {
		return nil, err
	}
	var list []answer
	for line := range strings.Lines(string(verdicts)) {
		columns := strings.Split(line, "\t")
		if len(columns) < 5 {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, columns[0]+".json"))
		if err != nil {
			return nil, err
		}
		var reading struct {
			Causes []struct {
				Code       string
				Likelihood float64
			}
		}
		if err := json.Unmarshal(text, &reading); err != nil {
			return nil, fmt.Errorf("%s: %w", columns[0], err)
		}
		if len(reading.Causes) == 0 {
			continue
		}
		first := reading.Causes[0]
		right := slices.ContainsFunc(strings.Split(strings.TrimSpace(columns[4]), ","),
			func(code string) bool { return strings.TrimPrefix(code, "?") == first.Code })
		list = append(list, answer{first.Likelihood, right})
	}
	return list, nil
}

// steps are the ranges of likelihood in the table, by their beginnings.
var steps = []float64{0, 0.3, 0.5, 0.7, 0.85, 0.93}

func write(out io.Writer, answers []answer) {
	fmt.Fprintln(out, "said      texts  right  mean of what was said")
	for i, from := range steps {
		to := 1.0
		if i+1 < len(steps) {
			to = steps[i+1]
		}
		count, right, sum := 0, 0, 0.0
		for _, a := range answers {
			if a.likelihood < from || a.likelihood >= to && i+1 < len(steps) {
				continue
			}
			count++
			sum += a.likelihood
			if a.right {
				right++
			}
		}
		if count > 0 {
			fmt.Fprintf(out, "%3.0f-%3.0f %%  %5d  %3d %%  %3.0f %%\n", 100*from, 100*to, count, 100*right/count,
				100*sum/float64(count))
		}
	}
}
