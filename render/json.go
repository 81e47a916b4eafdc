package render

import (
	"bytes"
	"encoding/json"
	"time"

	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/workstation"
)

// JSON writes a document: indented, with a line end, and nothing escaped that need not be.
func JSON(document any) string {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(document); err != nil { // our documents hold nothing that JSON cannot
		panic(err)
	}
	return b.String()
}

// A checkDocument is "unicrux.check/1".
type checkDocument struct {
	Schema   string           `json:"schema"`
	Question questionDocument `json:"question"`
	Open     bool             `json:"open"`
	Account  *string          `json:"account"`
	Crux     *cruxDocument    `json:"crux"`
	Stages   []stageDocument  `json:"stages"`
	Notes    []noteDocument   `json:"notes"`
	Mends    []mendDocument   `json:"mends"`
}

type questionDocument struct {
	URL       string  `json:"url"`
	Remote    *string `json:"remote"`
	Transport string  `json:"transport"`
	Purpose   string  `json:"purpose"`
}

type cruxDocument struct {
	Code      string         `json:"code"`
	Stage     string         `json:"stage"`
	Summary   string         `json:"summary"`
	Evidence  []string       `json:"evidence"`
	Seen      []factDocument `json:"seen"` // the same, for programs
	Certainty string         `json:"certainty"`
}

type stageDocument struct {
	Name         string         `json:"name"`
	State        string         `json:"state"`
	Milliseconds float64        `json:"milliseconds"`
	Facts        []factDocument `json:"facts"`
}

type factDocument struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Origin string `json:"origin"`
}

type noteDocument struct {
	Code    string `json:"code"`
	Summary string `json:"summary"`
}

type mendDocument struct {
	Summary   string   `json:"summary"`
	Command   []string `json:"command"`
	By        string   `json:"by"`
	Automatic bool     `json:"automatic"`
}

// WayDocument makes the document of a way.
func WayDocument(w *finding.Way) any {
	d := checkDocument{Schema: "unicrux.check/1", Open: w.IsOpen(), Account: optional(w.Account),
		Question: questionDocument{URL: w.Question.URL, Remote: optional(w.Question.Remote),
			Transport: w.Question.Transport, Purpose: string(w.Question.Purpose)},
		Stages: []stageDocument{}, Notes: []noteDocument{}}
	if c := w.Crux; c != nil {
		d.Crux = &cruxDocument{Code: c.Code.String(), Stage: string(c.Stage), Summary: c.Summary, Evidence: []string{},
			Seen: []factDocument{}, Certainty: string(c.Certainty)}
		for _, e := range c.Evidence {
			d.Crux.Evidence = append(d.Crux.Evidence, sentence(e))
			d.Crux.Seen = append(d.Crux.Seen, factDocument{string(e.Name), e.Text, e.Origin})
		}
	}
	for _, stage := range w.Stages {
		s := stageDocument{Name: string(stage.Name), State: string(stage.State),
			Milliseconds: milliseconds(stage.Took), Facts: []factDocument{}}
		for _, fact := range stage.Facts {
			s.Facts = append(s.Facts, factDocument(fact))
		}
		d.Stages = append(d.Stages, s)
	}
	for _, note := range w.Notes {
		d.Notes = append(d.Notes, noteDocument{note.Code.String(), note.Summary})
	}
	d.Mends = mendDocuments(w.Mends)
	return d
}

func mendDocuments(mends []finding.Mend) []mendDocument {
	list := []mendDocument{}
	for _, mend := range mends {
		list = append(list, mendDocument{Summary: mend.Summary, Command: append([]string{}, mend.Command...),
			By: string(mend.By), Automatic: mend.Automatic})
	}
	return list
}

// milliseconds keeps three digits behind the point.
func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// optional is nil for an empty text, which JSON writes as null.
func optional(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// ErrorDocument makes the document "unicrux.error/1" of a failed command. code never changes its meaning; changes are
// what the command did before it failed.
func ErrorDocument(code, message, advice string, exit int, changes []workstation.Change) any {
	ids := []int{}
	for _, change := range changes {
		ids = append(ids, change.ID)
	}
	return struct {
		Schema  string `json:"schema"`
		Code    string `json:"code"`
		Message string `json:"message"`
		Advice  string `json:"advice"`
		Exit    int    `json:"exit"`
		Changes []int  `json:"changes"`
	}{"unicrux.error/1", code, message, advice, exit, ids}
}

// timeText is a time in RFC 3339, UTC; empty for the zero time.
func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}
