package term

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/term"
)

// errDeclined says that the person did not want it.
var errDeclined = errors.New("nothing was changed")

// ErrAtQuestion says that the person interrupted the program while it asked.
var ErrAtQuestion = errors.New("interrupted; nothing was changed")

// Ask asks a question that names the cluster. Without a terminal it refuses.
func (u *UI) Ask(question string) error {
	if u.Yes {
		return nil
	}
	return u.agreed(question, "this changes things, and there is no terminal to ask at; say --yes if it is to be done")
}

// AskPerson asks what nobody can say beforehand, since only a person can look: without a
// terminal it refuses.
func (u *UI) AskPerson(question string) error {
	return u.agreed(question, "a person has to look at this, and there is no terminal to ask at; nothing was written")
}

func (u *UI) agreed(question, without string) error {
	if _, ok := IsTerminal(u.In); !ok {
		return Usage("%s", without)
	}
	line, err := u.hear(question + " [y/N] ")
	if errors.Is(err, ErrAtQuestion) {
		return err
	}
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y") {
		return &Exit{ExitFailed, errDeclined}
	}
	return nil
}

// AskByName wants the cluster's name, because something could be lost.
func (u *UI) AskByName(cluster, what string) error {
	if u.Confirm == cluster {
		return nil
	}
	if u.Confirm != "" {
		return Usage("--confirm %s does not name the cluster, which is %s", u.Confirm, cluster)
	}
	if _, ok := IsTerminal(u.In); !ok {
		return Usage("%s; say --confirm %s if that is meant", what, cluster)
	}
	line, err := u.hear(what + "\nWrite the cluster's name to go on: ")
	if errors.Is(err, ErrAtQuestion) {
		return err
	}
	if err != nil || strings.TrimSpace(line) != cluster {
		return &Exit{ExitFailed, fmt.Errorf("that is not the cluster's name; %w", errDeclined)}
	}
	return nil
}

// hear shows a question and reads the line that is typed.
func (u *UI) hear(question string) (string, error) {
	fmt.Fprint(u.Err, question)
	return u.interruptible(func() (string, error) { return bufio.NewReader(u.In).ReadString('\n') })
}

// HearUnseen shows a question and reads a line that the terminal does not show.
func (u *UI) HearUnseen(fd int, question string) (string, error) {
	fmt.Fprint(u.Err, question)
	before, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	text, err := u.interruptible(func() (string, error) {
		b, err := term.ReadPassword(fd)
		return string(b), err
	})
	if errors.Is(err, ErrAtQuestion) {
		return "", errors.Join(err, term.Restore(fd, before))
	}
	fmt.Fprintln(u.Err)
	return text, err
}

// interruptible waits for what is typed, or until the program is interrupted:
// then it leaves at once, and whoever still reads goes down with the program.
func (u *UI) interruptible(read func() (string, error)) (string, error) {
	type typed struct {
		text string
		err  error
	}
	got := make(chan typed, 1)
	u.Asking.Store(true)
	defer u.Asking.Store(false)
	go func() {
		text, err := read()
		got <- typed{text, err}
	}()
	select {
	case t := <-got:
		return t.text, t.err
	case <-u.Soft.Done():
		return "", &Exit{ExitInterrupted, ErrAtQuestion}
	}
}
