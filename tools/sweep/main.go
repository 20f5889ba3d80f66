// Sweep kills something in the middle of what the tool does with a cluster, again and again,
// lets the next runs finish it, and compares what is there then with what there should be.
//
//	go run ./tools/sweep -rounds 500 -seed 1
//	go run ./tools/sweep -rounds 1 -seed 417
//	go run ./tools/sweep -every -does upgrade -kills tool
//	go run ./tools/sweep -rounds 200 -share
//
// A round raises a cluster of its own on a simulated site in a temporary folder. What is done
// with it, who is killed, and after which entry of the journal, follows from the round's seed;
// a round that fails prints the seed that repeats it, and leaves its folder. With -every the
// rounds go through the entries one after the other, until nothing is left to be killed.
// Run by hand: a round takes about ten seconds.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

func main() {
	rounds := flag.Int("rounds", 10, "how many rounds")
	seed := flag.Uint64("seed", 1, "of the first round; each further one has the next")
	beside := flag.Int("parallel", 1, "rounds beside each other")
	does := flag.String("does", "", "one thing alone: "+strings.Join(names(), ", "))
	kills := flag.String("kills", "", "one alone: "+strings.Join(victims, ", "))
	share := flag.Bool("share", false, "the memory lies in an etcd of three members; also these are killed, and the way to them: "+strings.Join(ofMemory, ", "))
	every := flag.Bool("every", false, "at every entry, one after the other, with -does and -kills")
	beMember()
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := sweep(ctx, *rounds, *seed, *beside, *does, *kills, *every, *share); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// sweep makes all rounds, and says what came of them.
func sweep(ctx context.Context, rounds int, seed uint64, beside int, does, kills string, every, share bool) error {
	who := whom(share)
	if does != "" && !slices.Contains(names(), does) || kills != "" && !slices.Contains(who, kills) || every && (does == "" || kills == "") {
		return fmt.Errorf("choose -does among %s, -kills among %s; -every wants both", strings.Join(names(), ", "), strings.Join(who, ", "))
	}
	program, remove, err := build(ctx)
	if err != nil {
		return err
	}
	defer remove()
	if every {
		for k := 1; ctx.Err() == nil; k++ {
			r := &round{program: program, seed: seed, does: does, kills: kills, after: k, share: share}
			if err := tell(ctx, r); err != nil {
				return fmt.Errorf("%w\nrepeat it: go run ./tools/sweep -every -does %s -kills %s -seed %d", err, does, kills, seed)
			}
			if !r.killed {
				fmt.Printf("%s has %d entries, and was killed at each of them\n", does, k-1)
				return nil
			}
		}
		return ctx.Err()
	}
	began := time.Now()
	var mu sync.Mutex
	var all sync.WaitGroup
	next, made, killed, failed := 0, 0, 0, 0
	for range max(beside, 1) {
		all.Go(func() {
			for {
				mu.Lock()
				i := next
				next++
				mu.Unlock()
				if i >= rounds || ctx.Err() != nil {
					return
				}
				r := chosen(program, seed+uint64(i), does, kills, share)
				err := tell(ctx, r)
				mu.Lock()
				made++
				if r.killed {
					killed++
				}
				if err != nil && ctx.Err() == nil {
					failed++
					fmt.Printf("FAILED: %v\n  repeat it: go run ./tools/sweep -rounds 1 -seed %d -share=%v\n", err, r.seed, share)
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	fmt.Printf("%d rounds from seed %d in %s: something was killed in %d, %d failed\n", made, seed, time.Since(began).Round(time.Second), killed, failed)
	if failed > 0 {
		return fmt.Errorf("%d of %d rounds failed", failed, made)
	}
	return ctx.Err()
}

// tell makes a round, and says in a line what it came to.
func tell(ctx context.Context, r *round) error {
	began := time.Now()
	err := r.run(ctx)
	outcome := "as it should be"
	if err != nil {
		outcome = "FAILED"
	}
	fmt.Printf("seed %d  %s, %s: %s after %d more, %.1f s\n", r.seed, r.does, r.what(), outcome, r.runs, time.Since(began).Seconds())
	return err
}

// build builds the program that is swept.
func build(ctx context.Context) (program string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "verbund-sweep-program-")
	if err != nil {
		return "", nil, err
	}
	program = filepath.Join(dir, "verbund")
	c := exec.CommandContext(ctx, "go", "build", "-o", program, "verbund/cmd/verbund")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		os.RemoveAll(dir)
		return "", nil, fmt.Errorf("building the program: %w\n%s", err, out)
	}
	return program, func() { os.RemoveAll(dir) }, nil
}
