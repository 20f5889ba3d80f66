package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// The tests of the built program run in lanes, by VERBUND_TESTS: without it the quick ones, which
// take half a minute at most each; with "long" those that take longer, on the same machines; with
// "trials" those that somebody asks for who wants a figure. .ci/run runs the first two.
const (
	quickLane  = ""
	longLane   = "long"
	trialsLane = "trials"
)

var lane = os.Getenv("VERBUND_TESTS")

// long are the tests of the second lane: of faults and kills in the middle, of roll-outs that are
// watched, of whole lives.
var long = []string{
	"TestAPIAwayInTheMiddle",
	"TestApartReplacedAndRestored",
	"TestBackupBefore",
	"TestBudgetInTheMiddle",
	"TestBudgetThatNeverAllows",
	"TestClockInTheMiddle",
	"TestControlPlaneByReplacement",
	"TestDemo",
	"TestDemoFails",
	"TestDrills",
	"TestDrillsOfOnesOwn",
	"TestDrillsOfRuns",
	"TestEditsLeaveTheRest",
	"TestEndpointMoves",
	"TestEnrolment",
	"TestEverythingDeclared",
	"TestFaultsOfTheSite",
	"TestForeseen",
	"TestGotAnewNeverFounds",
	"TestHoldByAPerson",
	"TestHoldResumeBack",
	"TestInTheWayBeforehand",
	"TestKeepers",
	"TestKeysOutside",
	"TestKilledAtEveryStep",
	"TestKubeletsRenewThemselves",
	"TestLife",
	"TestLostZone",
	"TestMovedMachines",
	"TestNodesComeAndGo",
	"TestNothingIsKnown",
	"TestPatchBack",
	"TestProve",
	"TestProveAfterChange",
	"TestProveLoseControl",
	"TestQuorumGuard",
	"TestRealClients",
	"TestRehearse",
	"TestRenewPutsBack",
	"TestReplace",
	"TestReplaceInterrupted",
	"TestReplaceNow",
	"TestRestoreFromMember",
	"TestRestoreKilled",
	"TestRestoreOlderMinor",
	"TestRestoreWithoutMachines",
	"TestSeveralClusters",
	"TestSizeOfALivingPool",
	"TestSmallEndpointMoves",
	"TestTwoMinorsInOneRun",
	"TestUpgradeMeetsOtherChanges",
	"TestWatchStopsARollout",
	"TestWhoRenewsKubelets",
	"TestWindowCloses",
	"TestZoneLostInReplacement",
}

// inLane skips a test that is not of this run's lane. A test that only takes a moment is of every
// one.
func inLane(t testing.TB) {
	t.Helper()
	name, _, _ := strings.Cut(t.Name(), "/")
	if want := laneOf(name); want != lane {
		t.Skipf("it is of another lane: VERBUND_TESTS=%q runs it", want)
	}
}

func laneOf(test string) string {
	switch {
	case slices.Contains(long, test):
		return longLane
	case strings.HasPrefix(test, "TestLong"):
		return trialsLane
	case strings.HasPrefix(test, "TestReal"), strings.HasPrefix(test, "Benchmark"):
		return lane // they have a condition of their own
	}
	return quickLane
}

// A lane is one of three, and every test of the second one is there.
func TestLanes(t *testing.T) {
	if !slices.Contains([]string{quickLane, longLane, trialsLane}, lane) {
		t.Errorf("VERBUND_TESTS=%q: there are no such tests; %q and %q are, and those that run without it", lane, longLane, trialsLane)
	}
	files, err := filepath.Glob("*_test.go")
	if err != nil {
		t.Fatal(err)
	}
	var there []string
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(b, -1) {
			there = append(there, string(m[1]))
		}
	}
	for i, name := range long {
		if !slices.Contains(there, name) || slices.Index(long, name) != i {
			t.Errorf("%s is of the second lane, and not there, or named twice", name)
		}
	}
}
