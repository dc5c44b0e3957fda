package drafting

import (
	"context"
	"fmt"
	"strings"

	"lucidorchard/consequences"
	"lucidorchard/core/derive"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// Judgement is what a person says of a proposal.
type Judgement struct {
	Proposal int64
	Do       string
	Choice   *int
	Reason   string
}

// Judge takes and refuses proposals, all in one step, or says what that would
// do. What is taken narrower or wider counts as judged as long as that rule
// stands. base is the revision on which they were judged: groups that a rule
// names must mean the same still.
// Together, those that are taken become one rule, which holds within what they
// differ in.
func (a *Service) Judge(ctx context.Context, v *reach.View, m *model.Model, base int, all []Judgement,
	together, dryRun bool) (edited, error) {
	out := edited{Revision: m.Head.No}
	j, err := a.judging(ctx, m, base, all, together)
	if err != nil {
		return out, err
	}
	if together {
		if err := j.join(m.Policy, a.Author); err != nil {
			return out, err
		}
	}
	text := m.Head.Text
	if len(j.rules) > 0 {
		p, errs := policy.Parse(policy.InsertAllowances(text, j.lines))
		if len(errs) > 0 {
			return out, refuse.Invalid("the policy would have an error: " + errs[0].Message + "; nothing was changed")
		}
		text = p.Format()
	}
	out.Words = j.words()
	if dryRun {
		out.Consequences, err = consequences.Changing(ctx, v, m, text)
		return out, err
	}
	if err := consequences.Affordable(m, text); err != nil {
		return out, err
	}
	edit := Edit{Words: out.Words, Author: a.Author, Refusals: j.refusals}
	if text != m.Head.Text {
		edit.Revision = &model.Revision{No: m.Head.No + 1, Text: text, Author: a.Author, Words: out.Words,
			Blame: blame(m.Head, text)}
		out.Revision = edit.Revision.No
	}
	return out, a.apply(ctx, edit)
}

// judging is what judgements come to.
type judging struct {
	rules    []*policy.Rule
	took     []*Proposal // of the rules
	lines    []string    // what the policy gains
	refusals []RefusalEdit
	refused  []string // sentences
	again    []string
}

func (a *Service) judging(ctx context.Context, m *model.Model, base int, all []Judgement,
	together bool) (*judging, error) {
	ids := make([]int64, len(all))
	for i := range all {
		ids[i] = all[i].Proposal
	}
	rows, err := a.Store.Proposals(ctx, ids)
	if err != nil {
		return nil, err
	}
	byID := map[int64]KeptProposal{}
	for _, r := range rows {
		byID[r.ID] = r
	}
	then := m.Policy
	if base != m.Head.No {
		if then, err = a.Models.RevisionPolicy(ctx, base); err != nil {
			return nil, err
		}
	}
	j := &judging{}
	defined := map[string]bool{}
	for i, x := range all {
		row, there := byID[x.Proposal]
		if !there {
			return nil, refuse.Missing(fmt.Sprintf("there is no proposal %d any more; nothing was changed. Load the "+
				"proposals again", x.Proposal))
		}
		delete(byID, x.Proposal)
		p, err := readProposal(row)
		if err != nil {
			return nil, err
		}
		switch x.Do {
		case "refuse":
			j.refused = append(j.refused, p.Key)
			j.refuse(&p, x.Reason, a.Author, "")
		case "again":
			j.again = append(j.again, p.Key)
			j.refusals = append(j.refusals, RefusalEdit{Rule: p.Key})
		default:
			choice := p.Own
			if x.Choice != nil {
				choice = *x.Choice
			}
			if choice < 0 || choice >= len(p.Choices) {
				return nil, refuse.Invalid(
					fmt.Sprintf("judgements[%d].choice: found %d, expected 0 to %d; nothing was "+
						"changed", i, choice, len(p.Choices)-1))
			}
			if p.Barred && choice >= p.Own {
				return nil, refuse.Invalid("the proposal “" + p.Key +
					"” admits far more than was seen and can only be narrowed; nothing was changed. Take one of its " +
					"narrower rules")
			}
			c := p.Choices[choice]
			if err := j.take(m, then, c, defined); err != nil {
				return nil, err
			}
			j.took = append(j.took, &p)
			if choice != p.Own && !together { // it does not ask again for the rest, until the rule goes
				j.refuse(&p, "taken "+c.Words, a.Author, c.Sentence)
			}
		}
	}
	return j, nil
}

func (j *judging) refuse(p *Proposal, reason, author, instead string) {
	j.refusals = append(j.refusals, RefusalEdit{Rule: p.Key, Refusal: &Refusal{
		Rule: p.Key, Reason: strings.TrimSpace(reason), Author: author, Conversations: p.Conversations,
		Callers: p.CallerCount, Instead: instead,
	}})
}

// take adds a choice's groups and rule to what the policy gains.
func (j *judging) take(m *model.Model, then *policy.Policy, c Choice, defined map[string]bool) error {
	p, errs := policy.ParseLoose("layer " + policy.Allowances + "\n" + c.Text)
	if len(errs) > 0 {
		return refuse.Invalid("the proposal cannot be read: " + errs[0].Message + "; nothing was changed")
	}
	for _, item := range p.Items[1:] {
		switch st := item.Statement.(type) {
		case *policy.Group:
			g := m.Policy.Groups[st.Name]
			if g != nil && g.Body() != st.Body() {
				return movedFrom(st.String(), g.String(), m.Head.No)
			}
			if g != nil || defined[st.Name] {
				continue // taken with an earlier proposal
			}
			defined[st.Name] = true
		case *policy.Rule:
			for name, g := range then.Groups {
				if !policy.Names(st, name) {
					continue
				}
				if now := m.Policy.Groups[name]; now == nil {
					return movedFrom(g.String(), "the group was removed", m.Head.No)
				} else if now.Body() != g.Body() {
					return movedFrom(g.String(), now.String(), m.Head.No)
				}
			}
			j.rules = append(j.rules, st)
		}
		if item.Statement != nil {
			j.lines = append(j.lines, item.Statement.String())
		}
	}
	return nil
}

// join puts one rule in the place of those that are taken.
func (j *judging) join(draft *policy.Policy, author string) error {
	p, errs := policy.ParseLoose("layer " + policy.Allowances + "\n" + strings.Join(j.lines, "\n"))
	if len(errs) > 0 {
		return refuse.Invalid("the proposals cannot be read: " + errs[0].Message + "; nothing was changed")
	}
	groups, rule, err := derive.Together(j.rules, func(name string) *policy.Group {
		if g := draft.Groups[name]; g != nil {
			return g
		}
		return p.Groups[name]
	})
	if err != nil {
		return refuse.Invalid("these proposals cannot become one rule: " + err.Error() +
			"; nothing was changed. Take them one by one")
	}
	rule.Note = fmt.Sprintf("Derived in place of %d rules of one shape", len(j.rules))
	for _, p := range j.took {
		j.refuse(p, "taken as one rule", author, rule.Sentence())
	}
	j.rules, j.lines = []*policy.Rule{rule}, nil
	for _, g := range groups {
		if draft.Groups[g.Name] == nil {
			j.lines = append(j.lines, g.String())
		}
	}
	j.lines = append(j.lines, rule.String())
	return nil
}

// words reports what was done, for the history.
func (j *judging) words() string {
	var parts []string
	say := func(verb string, sentences []string) {
		switch n := len(sentences); {
		case n == 1:
			parts = append(parts, verb+" the proposal “"+sentences[0]+"”")
		case n > 1:
			parts = append(parts, fmt.Sprintf("%s %d proposals", verb, n))
		}
	}
	taken := make([]string, len(j.rules))
	for i, r := range j.rules {
		taken[i] = r.Sentence()
	}
	say("take", taken)
	say("refuse", j.refused)
	say("judge again", j.again)
	text := strings.Join(parts, ", ")
	return strings.ToUpper(text[:1]) + text[1:]
}

// ProposalPolicy returns the draft as it would be with a choice of a proposal.
func (a *Service) ProposalPolicy(ctx context.Context, m *model.Model, id int64, choice *int) (*policy.Policy, error) {
	rows, err := a.Store.Proposals(ctx, []int64{id})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, refuse.Missing(fmt.Sprintf("there is no proposal %d any more; load the proposals again", id))
	}
	p, err := readProposal(rows[0])
	if err != nil {
		return nil, err
	}
	at := p.Own
	if choice != nil {
		at = *choice
	}
	if at < 0 || at >= len(p.Choices) {
		return nil, refuse.Invalid(fmt.Sprintf("choice: found %d, expected 0 to %d", at, len(p.Choices)-1))
	}
	j := &judging{}
	if err := j.take(m, m.Policy, p.Choices[at], map[string]bool{}); err != nil {
		return nil, err
	}
	with, errs := policy.Parse(policy.InsertAllowances(m.Head.Text, j.lines))
	if len(errs) > 0 {
		return nil, refuse.Conflict("the proposal does not fit the current draft: " + errs[0].Message +
			"; derive again")
	}
	return with, nil
}
