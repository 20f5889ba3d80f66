package converge

import (
	"errors"
	"testing"

	"verbund/internal/core/plan"
	"verbund/internal/engine/act"
)

// A step that failed is told with everything that one needs to act on it.
func TestFailureHasAllParts(t *testing.T) {
	se := &act.StepError{Step: plan.Step{Text: "start it"}, Machine: "m", Unit: "kubelet.service", Exit: 7, Log: []string{"line one", "line two"}, Todo: "mend it", Err: errors.New("it ended")}
	err := failure(se, se)
	want := "start it on m: it ended\n  machine    m\n  unit       kubelet.service\n  exit code  7\n  last log lines\n    line one\n    line two\n  what now   mend it"
	if err.Error() != want {
		t.Errorf("it says\n%s\nwanted\n%s", err, want)
	}
}
