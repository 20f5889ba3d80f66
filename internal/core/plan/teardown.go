package plan

// Teardown plans how a cluster goes: each of its machines is given back to the site, dead
// or alive, and nothing waits for anything.
func Teardown(machines []string) []Step {
	var steps []Step
	for _, m := range machines {
		steps = append(steps, Step{ID: string(Release) + "/" + m, Kind: Release, Machine: m, Text: "give the machine back to the site, with its disk", Why: "the cluster is torn down", Final: true})
	}
	return steps
}
