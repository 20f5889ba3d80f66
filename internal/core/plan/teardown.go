package plan

// Teardown plans how a cluster goes: each of its machines is given back to the site, dead
// or alive, and nothing waits for anything.
func Teardown(machines []string, listed bool) []Step {
	var steps []Step
	for _, m := range machines {
		steps = append(steps, Step{ID: string(Release) + "/" + m, Kind: Release, Machine: m, Text: givesBack(listed), Why: "the cluster is torn down", Final: true})
	}
	return steps
}

// givesBack says what becomes of a machine that is used no more.
func givesBack(listed bool) string {
	if listed {
		return "wipe what is Verbund's from it, and strike it off"
	}
	return "give the machine back to the site, with its disk"
}
