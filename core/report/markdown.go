package report

import (
	"fmt"
	"strings"

	"lucidorchard/core/plural"
)

// Markdown writes a report as CommonMark with tables (GitHub Flavored Markdown),
// to be sent around and kept. title is whose estate it is.
func (r *Report) Markdown(title string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# What the draft changes: %s", plain(title))
	line("")
	line("Draft, revision %d (%s, %s), against revision %d (%s, %s: %s).", r.Draft.No, plain(r.Draft.Author),
		r.Draft.At, r.Before.No, plain(r.Before.Author), r.Before.At, plain(r.Before.Words))
	line("Over the conversations from %s to %s.", r.Window[0], r.Window[1])
	line("")
	line("%s", r.Sentence())
	line("")
	line("| | permit | reject | uncovered |")
	line("| --- | ---: | ---: | ---: |")
	line("| before | %d | %d | %d |", r.Then.Permit, r.Then.Reject, r.Then.Uncovered)
	line("| draft | %d | %d | %d |", r.Now.Permit, r.Now.Reject, r.Now.Uncovered)
	line("")
	r.writeStatements(line)
	r.writeParts(line)
	r.writePromises(line)
	return b.String()
}

// writeStatements writes what changes in the text of the policy.
func (r *Report) writeStatements(line func(string, ...any)) {
	if len(r.Statements) > 0 {
		line("## Statements of the policy")
		line("")
		line("```diff")
		for _, s := range r.Statements {
			mark := "+"
			if s.Change == "removed" {
				mark = "-"
			}
			line("%s %s", mark, strings.ReplaceAll(s.Text, "```", "'''"))
		}
		line("```")
		line("")
	}
}

// writeParts writes what changes for the traffic of each part.
func (r *Report) writeParts(line func(string, ...any)) {
	quiet := []string{}
	for _, p := range r.Parts {
		if p.Quiet() {
			quiet = append(quiet, plain(p.Name))
			continue
		}
		owner := ""
		if p.Owner != "" {
			owner = " (" + plain(p.Owner) + ")"
		}
		line("## %s%s", plain(p.Name), owner)
		line("")
		line("%d conversations: %d permit, %d reject, %d uncovered; before %d, %d, %d.", p.Now.Permit+p.Now.Reject+
			p.Now.Uncovered, p.Now.Permit, p.Now.Reject, p.Now.Uncovered, p.Then.Permit, p.Then.Reject,
			p.Then.Uncovered)
		line("")
		for _, list := range []struct {
			head   string
			groups []FlowGroup
		}{{"Loses", p.Loses}, {"Gains", p.Gains}, {"Other changes", p.Others}, {"Open questions", p.Open},
			{"Rightly rejected", p.Accepted}} {
			if len(list.groups) == 0 {
				continue
			}
			line("### %s", list.head)
			line("")
			line("| client | server | service | before | draft | conversations | carried | why |")
			line("| --- | --- | --- | --- | --- | ---: | ---: | --- |")
			for _, s := range list.groups {
				why := s.Rule
				if s.Why != "" {
					why += " — " + s.Why
				}
				line("| %s | %s | %s | %s | %s | %d | %d | %s |", plain(s.Client), plain(s.Server), plain(s.Service),
					s.Was, s.Is, s.Conversations, s.Carried, plain(strings.TrimPrefix(why, " — ")))
			}
			line("")
		}
	}
	if len(quiet) > 0 {
		line("No change and no open question for %s.", strings.Join(quiet, ", "))
		line("")
	}
}

// writePromises writes what becomes of assertions and probes.
func (r *Report) writePromises(line func(string, ...any)) {
	if len(r.Assertions) > 0 {
		line("## Assertions")
		line("")
		for _, a := range r.Assertions {
			text := plain(a.Sentence)
			if a.Note != "" {
				text += " — " + plain(a.Note)
			}
			if a.Example != "" {
				text += ": " + plain(a.Example)
			}
			line("- **%s** %s", a.Result, text)
		}
		line("")
	}
	if len(r.Probes) > 0 {
		line("## Probes")
		line("")
		for _, p := range r.Probes {
			word := "as expected"
			if !p.AsExpected {
				word = "NOT as expected"
			}
			text := fmt.Sprintf("- **%s** %s, expected %s: %s", word, plain(p.Question), p.Want, plain(p.Words))
			if p.Reason != "" {
				text += " — " + plain(p.Reason)
			}
			line("%s", text)
		}
		line("")
	}
}

// Quiet reports whether nothing changes for a part, and nothing is asked of it.
func (p *Part) Quiet() bool {
	return len(p.Loses)+len(p.Gains)+len(p.Others)+len(p.Open) == 0
}

// Sentence says in one what a report comes to.
func (r *Report) Sentence() string {
	loses, gains, open := map[string]bool{}, map[string]bool{}, 0
	for _, p := range r.Parts {
		if len(p.Loses) > 0 {
			loses[p.Name] = true
		}
		if len(p.Gains) > 0 {
			gains[p.Name] = true
		}
		if len(p.Open) > 0 {
			open++
		}
	}
	broken, off := 0, 0
	for _, a := range r.Assertions {
		if a.Result != "holds" {
			broken++
		}
	}
	for _, p := range r.Probes {
		if !p.AsExpected {
			off++
		}
	}
	out := fmt.Sprintf("The draft changes the verdict of %s: %s traffic that was permitted, %s more than before; %s "+
		"open questions.",
		plural.Of(r.Changed, "conversation"), plural.Of(len(loses), "part loses", "parts lose"),
		plural.Of(len(gains), "part gains", "parts gain"), plural.Of(open, "part has", "parts have"))
	if broken > 0 {
		out += fmt.Sprintf(" %s not hold.", plural.Of(broken, "assertion does", "assertions do"))
	}
	if off > 0 {
		out += fmt.Sprintf(" %s not as expected.", plural.Of(off, "probe is", "probes are"))
	}
	return out
}

// plain writes text so that Markdown takes nothing in it for its own.
func plain(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch r {
		case '\\', '`', '*', '_', '|', '[', ']', '<', '>', '#':
			b.WriteByte('\\')
		case '\n', '\r':
			r = ' '
		}
		b.WriteRune(r)
	}
	return b.String()
}
