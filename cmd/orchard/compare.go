package main

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/prove"
)

// comparison is what check says with --against: how another policy, usually the
// one before, decides the same rows.
type comparison struct {
	before *decide.Compiled
	after  *decide.Compiled
	counts decide.Difference // rows, by the verdict before and after
	leaks  int               // rows that are rejected and were carried
	chokes int               // rows that are permitted and were dropped
}

func (c *comparison) add(r flow.Record, was, is decide.Verdict) {
	c.counts[was][is]++
	if is == decide.Reject && r.Outcome == flow.Carried {
		c.leaks++
	}
	if is == decide.Permit && r.Outcome == flow.Dropped {
		c.chokes++
	}
}

// row compares one flow, and writes it down if its verdict differs.
func (c *comparison) row(row int, r flow.Record, changes *output) error {
	rule := func(k *decide.Compiled) (decide.Verdict, string) {
		by := k.Decide(k.At(r.Client, r.Start), k.At(r.Server, r.Start), r.Point)
		if by == nil {
			return decide.Uncovered, ""
		}
		return decide.VerdictOf(by), strconv.Itoa(by.Line)
	}
	was, lineBefore := rule(c.before)
	is, lineAfter := rule(c.after)
	c.add(r, was, is)
	if was == is || changes == nil {
		return nil
	}
	if _, err := fmt.Fprintf(changes, "%d,%s,%s,%s,%s\n", row, was, is, lineBefore, lineAfter); err != nil {
		return unusable("%s", err)
	}
	return nil
}

// measures are the numbers that --fail-on speaks of.
func (c *comparison) measures() map[string]int {
	newly := func(v decide.Verdict) (n int) {
		for was := range c.counts {
			if decide.Verdict(was) != v {
				n += c.counts[was][v]
			}
		}
		return n
	}
	all := func(v decide.Verdict) (n int) {
		for was := range c.counts {
			n += c.counts[was][v]
		}
		return n
	}
	broken, open := 0, 0
	for _, r := range prove.Assertions(c.after) {
		switch r.Outcome {
		case prove.Broken:
			broken++
		case prove.Open:
			open++
		}
	}
	return map[string]int{
		"newly-permitted": newly(decide.Permit), "newly-rejected": newly(decide.Reject),
		"newly-uncovered": newly(decide.Uncovered),
		"changed":         newly(decide.Permit) + newly(decide.Reject) + newly(decide.Uncovered),
		"permitted":       all(decide.Permit), "rejected": all(decide.Reject), "uncovered": all(decide.Uncovered),
		"leaks": c.leaks, "chokes": c.chokes, "broken": broken, "open": open,
	}
}

var measureNames = []string{"newly-permitted", "newly-rejected", "newly-uncovered", "changed", "permitted",
	"rejected", "uncovered", "leaks", "chokes", "broken", "open"}

// condition is one --fail-on: a measure, a comparison and a number.
type condition struct {
	text, measure, op string
	number            int
}

func parseConditions(texts []string) ([]condition, error) {
	var out []condition
	for _, t := range texts {
		i := strings.IndexAny(t, "<>=")
		if i < 0 {
			return nil, unusable("--fail-on: found %q, expected a measure, one of > >= < <= = and a number, such "+
				"as newly-rejected>0", t)
		}
		c := condition{text: t, measure: strings.TrimSpace(t[:i])}
		rest := strings.TrimLeft(t[i:], "<>=")
		c.op = t[i : len(t)-len(rest)]
		n, err := strconv.Atoi(strings.TrimSpace(rest))
		if err != nil || !slices.Contains([]string{">", ">=", "<", "<=", "="}, c.op) {
			return nil, unusable("--fail-on: found %q, expected a measure, one of > >= < <= = and a number, such "+
				"as newly-rejected>0", t)
		}
		if !slices.Contains(measureNames, c.measure) {
			return nil, unusable("--fail-on: found the measure %q, expected one of %s", c.measure,
				strings.Join(measureNames, ", "))
		}
		c.number = n
		out = append(out, c)
	}
	return out, nil
}

func (c condition) holds(n int) bool {
	switch c.op {
	case ">":
		return n > c.number
	case ">=":
		return n >= c.number
	case "<":
		return n < c.number
	case "<=":
		return n <= c.number
	}
	return n == c.number
}

// comparisonSummary is what --summary says of a comparison.
type comparisonSummary struct {
	Counts   map[string]map[string]int `json:"counts"` // rows, by the verdict before, then after
	Measures map[string]int            `json:"measures"`
	Failed   []string                  `json:"failed"` // conditions of --fail-on that hold
}

// report prints the comparison for people and gives it for machines; failed says
// that a condition holds.
func (c *comparison) report(conditions []condition) (out comparisonSummary, failed bool) {
	out = comparisonSummary{Counts: map[string]map[string]int{}, Measures: c.measures(), Failed: []string{}}
	order := []decide.Verdict{decide.Permit, decide.Reject, decide.Uncovered}
	fmt.Fprintf(os.Stderr, "%-20s %10s %10s %10s\n", "before \\ after", "permit", "reject", "uncovered")
	for _, was := range order {
		row := map[string]int{}
		for _, is := range order {
			row[is.String()] = c.counts[was][is]
		}
		out.Counts[was.String()] = row
		fmt.Fprintf(os.Stderr, "%-20s %10d %10d %10d\n", was, row["permit"], row["reject"], row["uncovered"])
	}
	for _, k := range conditions {
		if n := out.Measures[k.measure]; k.holds(n) {
			out.Failed = append(out.Failed, k.text)
			fmt.Fprintf(os.Stderr, "failed: %s: it is %d\n", k.text, n)
		}
	}
	return out, len(out.Failed) > 0
}

// against compiles the other policy for the same estate.
func against(name string, after *decide.Compiled) (*comparison, error) {
	_, p, err := readPolicy(name)
	if err != nil {
		return nil, err
	}
	return &comparison{before: decide.Compile(after.Estate, p, after.AsOf), after: after}, nil
}
