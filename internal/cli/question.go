package cli

import (
	"bufio"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/term"
)

// errDeclined says that the person did not want it.
var errDeclined = errors.New("nothing was changed")

// errAtQuestion says that the person interrupted the program while it asked.
var errAtQuestion = errors.New("interrupted; nothing was changed")

// ask asks a question that names the cluster. Without a terminal it refuses.
func (u *ui) ask(question string) error {
	if u.yes {
		return nil
	}
	if _, ok := isTerminal(u.in); !ok {
		return usage("this changes things, and there is no terminal to ask at; say --yes if it is to be done")
	}
	line, err := u.hear(question + " [y/N] ")
	if errors.Is(err, errAtQuestion) {
		return err
	}
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y") {
		return &exit{exitFailed, errDeclined}
	}
	return nil
}

// askByName wants the cluster's name, because something could be lost.
func (u *ui) askByName(cluster, what string) error {
	if u.confirm == cluster {
		return nil
	}
	if u.confirm != "" {
		return usage("--confirm %s does not name the cluster, which is %s", u.confirm, cluster)
	}
	if _, ok := isTerminal(u.in); !ok {
		return usage("%s; say --confirm %s if that is meant", what, cluster)
	}
	line, err := u.hear(what + "\nWrite the cluster's name to go on: ")
	if errors.Is(err, errAtQuestion) {
		return err
	}
	if err != nil || strings.TrimSpace(line) != cluster {
		return &exit{exitFailed, fmt.Errorf("that is not the cluster's name; %w", errDeclined)}
	}
	return nil
}

// hear shows a question and reads the line that is typed.
func (u *ui) hear(question string) (string, error) {
	fmt.Fprint(u.err, question)
	return u.interruptible(func() (string, error) { return bufio.NewReader(u.in).ReadString('\n') })
}

// hearUnseen shows a question and reads a line that the terminal does not show.
func (u *ui) hearUnseen(fd int, question string) (string, error) {
	fmt.Fprint(u.err, question)
	before, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	text, err := u.interruptible(func() (string, error) {
		b, err := term.ReadPassword(fd)
		return string(b), err
	})
	if errors.Is(err, errAtQuestion) {
		return "", errors.Join(err, term.Restore(fd, before))
	}
	fmt.Fprintln(u.err)
	return text, err
}

// interruptible waits for what is typed, or until the program is interrupted:
// then it leaves at once, and whoever still reads goes down with the program.
func (u *ui) interruptible(read func() (string, error)) (string, error) {
	type typed struct {
		text string
		err  error
	}
	got := make(chan typed, 1)
	u.asking.Store(true)
	defer u.asking.Store(false)
	go func() {
		text, err := read()
		got <- typed{text, err}
	}()
	select {
	case t := <-got:
		return t.text, t.err
	case <-u.soft.Done():
		return "", &exit{exitInterrupted, errAtQuestion}
	}
}
