package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/effective"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// longValue is from where on a default value is counted and not shown.
const longValue = 40

// Settings writes what holds for a host: what is set, with where it stands and what lost
// against it, then what holds by default.
func Settings(s Style, v *effective.View, tilde func(string) string) string {
	text := s.Sentences("What ssh and git use for "+v.Host+".") + "\n"
	text += s.settings("ssh", v.SSH, tilde)
	if v.NoGit {
		text += s.Sentences("git is not installed, or not on the path.")
	} else {
		text += "\n" + s.settings("git", v.Git, tilde)
	}
	text += s.byDefault(v.SSH)
	for _, problem := range v.Problems {
		text += Careful(s, []string{strings.TrimSpace(tilde(problem.Origin.String())+" "+problem.Keyword) +
			": ssh stops here, because " + problem.Err.Error() + "."})
	}
	for _, unknown := range v.Unknown {
		text += Careful(s, []string{tilde(unknown.Origin.String()) +
			": whether this block counts is settled by a command, which was not run (--run-commands does): " +
			untrusted.Clean(strings.Join(unknown.Args, " "))})
	}
	if v.Plain {
		text += Careful(s, []string{"No ssh client printed this, so only what is set is shown, as it is in the files."})
	}
	return text
}

func (s Style) settings(head string, list []effective.Setting, tilde func(string) string) string {
	width, set := 0, 0
	for _, setting := range list {
		if setting.Origin != "" {
			width, set = max(width, columns(setting.Name)), set+1
		}
	}
	if set == 0 {
		return s.block(len(head), []row{{label: head, tone: bold, text: "nothing is set"}})
	}
	text := margin + s.paint(bold, head) + "\n"
	for _, setting := range list {
		if setting.Origin != "" {
			text += s.block(width, s.settingRows(setting, width, tilde))
		}
	}
	return text
}

// settingRows puts the value, its origin and what would hold without it on one line, if they
// fit there, and what lost below.
func (s Style) settingRows(setting effective.Setting, width int, tilde func(string) string) []row {
	room := s.width() - len(margin) - width - 2
	value, origin := untrusted.Clean(setting.Value), tilde(setting.Origin)
	lines := s.withOrigin([]string{value}, origin, room)
	if setting.Default != "" && setting.Default != setting.Value && len(setting.Default) < longValue {
		without := "without it " + setting.Default
		if len(lines) == 1 && columns(value)+columns(origin)+len(" ()  ")+columns(without) <= room {
			lines[0] += "  " + s.paint(grey, without)
		} else {
			lines = append(lines, s.paint(grey, without))
		}
	}
	rows := []row{{label: setting.Name, tone: teal, lines: lines}}
	for _, lost := range setting.Lost {
		rows = append(rows, row{text: fmt.Sprintf("not %s (%s): %s", untrusted.Clean(lost.Value),
			tilde(lost.Origin), lost.Why)})
	}
	return rows
}

// byDefault lists what is not set, one a line, where details are asked for; long lists of algorithms are counted else.
func (s Style) byDefault(list []effective.Setting) string {
	if !s.Detail {
		return "\n" + s.Sentences("All other settings have their defaults. --verbose lists them.")
	}
	var rows []row
	width := 0
	for _, setting := range list {
		if setting.Origin == "" {
			rows = append(rows, row{label: setting.Name, tone: grey, lines: []string{untrusted.Clean(setting.Value)}})
			width = max(width, columns(setting.Name))
		}
	}
	if len(rows) == 0 {
		return ""
	}
	return "\n" + margin + s.paint(bold, "by default") + "\n" + s.block(width, rows)
}

// SettingsDocument makes the document of the settings that hold for a host.
func SettingsDocument(v *effective.View) any {
	d := document.Settings{Schema: document.Schema("settings"), Host: v.Host, SSH: document.Map(v.SSH, settingDoc),
		Git: document.Map(v.Git, settingDoc), Problems: []string{}, Complete: len(v.Unknown) == 0}
	for _, problem := range v.Problems {
		d.Problems = append(d.Problems, problem.Origin.String()+": "+problem.Err.Error())
	}
	return d
}

func settingDoc(s effective.Setting) document.Setting {
	d := document.Setting{Name: s.Name, Value: s.Value, Origin: document.Text(s.Origin),
		Default: document.Text(s.Default), Lost: []document.LostSetting{}}
	for _, lost := range s.Lost {
		d.Lost = append(d.Lost, document.LostSetting(lost))
	}
	return d
}

// Overruled warns of settings of ours that do not hold, with the line that wins.
func Overruled(s Style, list []effective.Setting, tilde func(string) string) string {
	var texts []string
	for _, setting := range list {
		texts = append(
			texts,
			fmt.Sprintf(
				"%s wins over it: %s %s. Take that line out, or put the line “Include ~/.ssh/unicrux.conf” above it.",
				tilde(setting.Origin),
				setting.Name,
				untrusted.Clean(setting.Value),
			),
		)
	}
	return Careful(s, texts)
}

// SetDocument makes the document of what host set has set.
func SetDocument(summary string, overruled []effective.Setting, change int) any {
	return document.Set{Schema: document.Schema("set"), Summary: summary, Change: document.Number(change),
		Overruled: document.Map(overruled, func(s effective.Setting) document.Overruling {
			return document.Overruling{Name: s.Name, Value: s.Value, Origin: s.Origin}
		})}
}
