package cli_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// turn is what a person is asked for, and answers.
type turn struct{ asked, answer string }

// seen says whether the answer is one that the terminal shows.
func (t turn) seen() bool { return t.asked == "[y/N] " || t.asked == "go on: " }

// converse runs a command at a terminal of its own and answers its questions.
// What somebody types unseen must not appear; it is typed once the terminal
// hides it.
func (w *world) converse(code int, turns []turn, words []string, args ...string) string {
	w.Helper()
	master, tty, err := openTerminal()
	if err != nil {
		w.Skipf("no terminals can be made here: %v", err)
	}
	defer master.Close()
	must := func(err error) {
		w.Helper()
		if err != nil {
			w.Fatal(err)
		}
	}
	cmd := w.command(args...)
	cmd.Env = append(cmd.Env, "TERM=dumb")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	must(cmd.Start())
	lines := make(chan string)
	go func() {
		defer close(lines)
		b := make([]byte, 4096)
		for {
			n, err := master.Read(b)
			if n > 0 {
				lines <- string(b[:n])
			}
			if err != nil {
				return
			}
		}
	}()
	deadline := time.NewTimer(time.Minute)
	defer deadline.Stop()
	all, seen := "", 0
	for _, x := range turns {
		for !strings.Contains(all[seen:], x.asked) {
			select {
			case s, ok := <-lines:
				if !ok {
					w.Fatalf("verbund %s ended and did not ask for %q:\n%s", strings.Join(args, " "), x.asked, all)
				}
				all += s
			case <-deadline.C:
				cmd.Process.Kill()
				w.Fatalf("verbund %s does not ask for %q:\n%s", strings.Join(args, " "), x.asked, all)
			}
		}
		seen = strings.Index(all[seen:], x.asked) + seen + len(x.asked)
		w.until(10*time.Second, "the terminal to hide what is typed", func() (bool, string) {
			t, err := unix.IoctlGetTermios(int(tty.Fd()), unix.TCGETS)
			return err == nil && (x.seen() || t.Lflag&unix.ECHO == 0), fmt.Sprint(err)
		})
		_, err := master.WriteString(x.answer + "\n")
		must(err)
	}
	ended := make(chan error, 1)
	go func() {
		ended <- cmd.Wait()
		tty.Close() // whoever reads the other end has all of it then
	}()
	for open := true; open; {
		select {
		case s, ok := <-lines:
			all, open = all+s, ok
		case <-deadline.C:
			cmd.Process.Kill()
			w.Fatalf("verbund %s does not end:\n%s", strings.Join(args, " "), all)
		}
	}
	var xe *exec.ExitError
	if err := <-ended; err != nil && !errors.As(err, &xe) {
		w.Fatal(err)
	}
	if got := cmd.ProcessState.ExitCode(); got != code {
		w.Fatalf("verbund %s: exit code %d, wanted %d\n%s", strings.Join(args, " "), got, code, all)
	}
	for _, x := range turns {
		if !x.seen() && strings.Contains(all, x.answer) {
			w.Errorf("verbund %s shows what was typed unseen:\n%s", strings.Join(args, " "), all)
		}
	}
	for _, word := range words {
		if !strings.Contains(all, word) {
			w.Errorf("verbund %s does not say %q:\n%s", strings.Join(args, " "), word, all)
		}
	}
	return all
}

// interrupted runs a command at a terminal of its own, waits for a question, and
// presses Ctrl-C there, or sends a signal.
func (w *world) interrupted(asked string, sig syscall.Signal, args ...string) string {
	w.Helper()
	master, tty, err := openTerminal()
	if err != nil {
		w.Skipf("no terminals can be made here: %v", err)
	}
	defer master.Close()
	cmd := w.command(args...)
	cmd.Env = append(cmd.Env, "TERM=dumb")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		w.Fatal(err)
	}
	tty.Close()
	heard := make(chan string, 1)
	all := ""
	go func() {
		b := make([]byte, 4096)
		told := false
		for {
			n, err := master.Read(b)
			all += string(b[:n])
			if !told && strings.Contains(all, asked) {
				told = true
				heard <- all
			}
			if err != nil {
				close(heard)
				return
			}
		}
	}()
	select {
	case _, ok := <-heard:
		if !ok {
			w.Fatalf("verbund %s ended and did not ask %q:\n%s", strings.Join(args, " "), asked, all)
		}
	case <-time.After(30 * time.Second):
		cmd.Process.Kill()
		w.Fatalf("verbund %s does not ask %q", strings.Join(args, " "), asked)
	}
	if sig == syscall.SIGINT {
		_, err = master.WriteString("\x03")
	} else {
		err = cmd.Process.Signal(sig)
	}
	if err != nil {
		w.Fatal(err)
	}
	began := time.Now()
	stop := time.AfterFunc(20*time.Second, func() { cmd.Process.Kill() })
	defer stop.Stop()
	cmd.Wait()
	if got := cmd.ProcessState.ExitCode(); got != 130 || time.Since(began) > 10*time.Second {
		w.Errorf("verbund %s, %v at %q: exit code %d after %s", strings.Join(args, " "), sig, asked, got, time.Since(began))
	}
	<-heard
	return all
}

// openTerminal makes a terminal: the end of whoever types, and the program's.
func openTerminal() (master, tty *os.File, err error) {
	if master, err = os.OpenFile("/dev/ptmx", os.O_RDWR, 0); err != nil {
		return nil, nil, err
	}
	fd := int(master.Fd())
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		return nil, nil, err
	}
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		return nil, nil, err
	}
	tty, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	return master, tty, err
}

// A passphrase is asked for where nobody gave a file with it.
func TestPassphraseAsked(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("render")
	const good, other = "ebb and flow and ebb", "flood and flood and flood"
	w.converse(2, []turn{{"new passphrase: ", good}, {"once more: ", other}}, []string{"the two are not the same; nothing was changed"}, "store", "protect", "--passphrase")
	w.converse(2, []turn{{"new passphrase: ", "ebb"}, {"once more: ", "ebb"}}, []string{"12 characters"}, "store", "protect", "--passphrase")
	w.fails(0, []string{"protection  key file"}, "store", "show")
	w.converse(0, []turn{{"new passphrase: ", good}, {"once more: ", good}}, nil, "store", "protect", "--passphrase")
	w.fails(1, []string{"there is nobody to ask"}, "access", "--login-key")
	w.converse(1, []turn{{"passphrase of ", other}}, []string{"not what it was closed with", "nothing was changed"}, "access", "--login-key")
	w.converse(0, []turn{{"passphrase of ", good}}, []string{"PRIVATE KEY"}, "access", "--login-key")

	// Of an archive for another computer, and of somebody's own key.
	packed := filepath.Join(w.keys, "packed")
	w.converse(0, []turn{{"new passphrase: ", other}, {"once more: ", other}, {"passphrase of ", good}}, nil, "trust", "pack", packed)
	there := newWorld(t, "small", "v1.37.2")
	for _, f := range []string{"tidewatch.verbund.yaml", "estuary.site.yaml"} {
		if err := os.Remove(there.path(f)); err != nil {
			t.Fatal(err)
		}
	}
	there.converse(1, []turn{{"passphrase of the archive: ", good}}, nil, "trust", "unpack", packed)
	there.converse(0, []turn{{"passphrase of the archive: ", other}}, nil, "trust", "unpack", packed)
	there.ok("access", "--login-key")
}
