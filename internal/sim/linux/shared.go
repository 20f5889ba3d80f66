package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// shared are settings of the kernel that count for all machines of this computer together,
// with the least that a site's machines need of them.
var shared = []struct {
	file string
	need int
}{
	// systemd, kubelet, proxy and container runtime of every machine watch files.
	{"/proc/sys/fs/inotify/max_user_instances", 8192},
	{"/proc/sys/fs/inotify/max_user_watches", 524288},
}

// Raise raises what this computer gives all of its machines together, where it is too little
// for several. What was raised is said, and back puts it as it was, unless another site has
// machines here by then, which need it.
func (n Network) Raise() (back func() error, said []string, err error) {
	was := map[string]string{}
	back = func() error {
		if all, err := filepath.Glob(filepath.Join(networkDir, prefix+"*")); err != nil || len(all) > 1 || len(all) == 1 && filepath.Base(all[0]) != n.Name {
			return err
		}
		var errs []error
		for f, v := range was {
			errs = append(errs, os.WriteFile(f, []byte(v), 0o644))
		}
		return errors.Join(errs...)
	}
	for _, s := range shared {
		b, err := os.ReadFile(s.file)
		if err != nil {
			continue // this kernel does not limit it
		}
		now, err := strconv.Atoi(strings.TrimSpace(string(b)))
		if err != nil || now >= s.need {
			continue
		}
		if err := os.WriteFile(s.file, []byte(strconv.Itoa(s.need)), 0o644); err != nil {
			return back, said, errors.Join(fmt.Errorf("raising %s from %d to %d, which the machines need together: %w", s.file, now, s.need, err), back())
		}
		was[s.file] = string(b)
		name := strings.ReplaceAll(strings.TrimPrefix(s.file, "/proc/sys/"), "/", ".")
		said = append(said, fmt.Sprintf("%s of this computer is %d while the site runs, before it was %d", name, s.need, now))
	}
	return back, said, nil
}
