package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"verbund/internal/whole"
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

// raised is where it is remembered what settings were before the first site raised them, a line
// each: a site may be killed, and another one be there meanwhile. It is gone with the next start
// of this computer, as what was raised is.
var raised = "/run/verbund/raised-settings"

// Raise raises what this computer gives all of its machines together, where it is too little
// for several. What was raised is said, and back puts it as it was before any site raised it,
// unless another site has machines here by then, which need it: the last one does.
func (n Network) Raise() (back func() error, said []string, err error) {
	was, err := readRaised()
	if err != nil {
		return nil, nil, err
	}
	back = func() error {
		if all, err := filepath.Glob(filepath.Join(networkDir, prefix+"*")); err != nil || len(all) > 1 || len(all) == 1 && filepath.Base(all[0]) != n.Name {
			return err
		}
		return lower()
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
		// Remembered first: whoever comes after a kill knows what it was.
		if _, known := was[s.file]; !known {
			was[s.file] = strings.TrimSpace(string(b))
			if err := writeRaised(was); err != nil {
				return nil, said, errors.Join(err, back())
			}
		}
		if err := os.WriteFile(s.file, []byte(strconv.Itoa(s.need)), 0o644); err != nil {
			return nil, said, errors.Join(fmt.Errorf("raising %s from %d to %d, which the machines need together: %w", s.file, now, s.need, err), back())
		}
		name := strings.ReplaceAll(strings.TrimPrefix(s.file, "/proc/sys/"), "/", ".")
		said = append(said, fmt.Sprintf("%s of this computer is %d while the site runs, before it was %d", name, s.need, now))
	}
	return back, said, nil
}

// lower puts everything as it was before it was raised.
func lower() error {
	was, err := readRaised()
	if err != nil {
		return err
	}
	var errs []error
	for f, v := range was {
		errs = append(errs, os.WriteFile(f, []byte(v), 0o644))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	if err := os.Remove(raised); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// readRaised reads what was remembered. Nothing but what a site raises is ever written back.
func readRaised() (map[string]string, error) {
	out := map[string]string{}
	b, err := os.ReadFile(raised)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for l := range strings.Lines(string(b)) {
		file, value, _ := strings.Cut(strings.TrimSpace(l), " ")
		for _, s := range shared {
			if _, err := strconv.Atoi(value); err == nil && s.file == file {
				out[file] = value
			}
		}
	}
	return out, nil
}

func writeRaised(was map[string]string) error {
	var b strings.Builder
	for f, v := range was {
		fmt.Fprintf(&b, "%s %s\n", f, v)
	}
	if err := os.MkdirAll(filepath.Dir(raised), 0o755); err != nil {
		return err
	}
	return whole.Write(raised, []byte(b.String()), 0o644)
}
