package desk

import (
	"fmt"
	"slices"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/proof"
	"verbund/internal/core/words"
)

// ShowProof shows a proof: nodes down, questions across, and then what does not hold.
func (a *App) ShowProof(r *proof.Report) {
	head := []string{"node"}
	var asked []proof.Question
	for _, q := range proof.OfNodes {
		if !r.Quick || q.Quick() {
			asked = append(asked, q)
			head = append(head, string(q))
		}
	}
	var rows [][]term.Cell
	nodes := 0
	for _, x := range r.Answers {
		if x.Node == "" || x.Question != asked[0] {
			continue
		}
		nodes++
		row := []term.Cell{term.Plain(x.Node)}
		for _, q := range asked {
			row = append(row, answerCell(r.Of(x.Node, q)))
		}
		rows = append(rows, row)
	}
	if slices.ContainsFunc(r.Answers, func(x proof.Answer) bool { return x.Node != "" && x.State != proof.Unasked }) {
		a.UI.Table(head, rows)
		fmt.Fprintln(a.Out)
	}
	rows = nil
	for _, x := range r.Answers {
		if x.Node == "" {
			rows = append(rows, []term.Cell{term.Plain(string(x.Question)), answerCell(&x), term.Plain(x.Found)})
		}
	}
	a.UI.Table([]string{"cluster", "answer", "found"}, rows)
	fmt.Fprintln(a.Out)
	rows = nil
	wanting := r.Wanting()
	unasked := 0
	for _, x := range wanting {
		if x.State == proof.Unasked {
			unasked++
		} else if x.Node != "" {
			rows = append(rows, []term.Cell{term.Plain(x.Node), term.Plain(string(x.Question)), answerCell(&x), term.Plain(x.Found)})
		}
	}
	if len(rows) > 0 {
		a.UI.Table([]string{"node", "question", "answer", "found"}, rows)
		fmt.Fprintln(a.Out)
	}
	took := words.Brief(time.Duration(r.Took) * time.Millisecond)
	if len(wanting) == 0 {
		fmt.Fprintf(a.Out, "Cluster %s works: %s asked, %s answered, in %s.\n", r.Cluster, words.Count(nodes, "node"), words.Count(len(r.Answers), "question"), took)
		return
	}
	text := fmt.Sprintf("Cluster %s is not shown to work: of %s %d failed", r.Cluster, words.Count(len(r.Answers), "question"), len(wanting)-unasked)
	if unasked > 0 {
		text += fmt.Sprintf(", and %d could not be asked (%s)", unasked, wanting[len(wanting)-1].Found)
	}
	fmt.Fprintf(a.Out, "%s, after %s.\n", text, took)
}

// answerCell is an answer in a table: how long it took, or that it is wanting.
func answerCell(x *proof.Answer) term.Cell {
	switch {
	case x == nil || x.State == proof.Unasked:
		return term.Cell{Text: "not asked", State: "attention"}
	case x.State == proof.Fails:
		return term.Cell{Text: "NO", State: "bad"}
	case x.Question == proof.Ready:
		return term.Cell{Text: x.Found, State: "good"}
	case x.Milliseconds == 0:
		return term.Cell{Text: "yes", State: "good"}
	}
	return term.Cell{Text: words.Brief(time.Duration(x.Milliseconds) * time.Millisecond), State: "good"}
}
