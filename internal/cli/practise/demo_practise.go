package practise

import (
	"fmt"
	"path/filepath"

	"verbund/internal/cli/term"
)

// proves shows that the cluster works before anybody relies on it.
func (d *demo) proves() error {
	d.stage("Prove it", "A small workload on every node is asked from outside, from every zone and by its name, and its log is\n   read; a pod that is deleted comes back. Then all of it is removed.")
	fmt.Fprintln(d.Out, "$ verbund prove")
	code := d.sub.Command(d.sub, []string{"prove"})
	d.check(code == term.ExitDone, "every node answers every question, and nothing is left of the proof")
	return nil
}

// practises pulls a plug on purpose, with figures.
func (d *demo) practises() error {
	d.stage("Practise", "A drill takes the power of the machine that leads the datastore, and measures: how long the API pauses,\n   whether anything that it acknowledged is lost, whether tidetable answers. Then it puts everything right.")
	file := filepath.Join(d.sub.Dir, "drill.html")
	args := []string{"drill", "leader-power", "--yes"}
	if d.keep {
		args = append(args, "--report", file)
	}
	fmt.Fprintf(d.Out, "$ verbund drill leader-power --yes\n")
	code := d.sub.Command(d.sub, args)
	d.check(code == term.ExitDone, "everything that the drill supposes holds, and the cluster is well again")
	return nil
}
