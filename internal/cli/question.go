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
func (a *app) ask(question string) error {
	if a.yes {
		return nil
	}
	if _, ok := isTerminal(a.in); !ok {
		return usage("this changes things, and there is no terminal to ask at; say --yes if it is to be done")
	}
	line, err := a.hear(question + " [y/N] ")
	if errors.Is(err, errAtQuestion) {
		return err
	}
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y") {
		return &exit{exitFailed, errDeclined}
	}
	return nil
}

// askByName wants the cluster's name, because something could be lost.
func (a *app) askByName(cluster, what string) error {
	if a.confirm == cluster {
		return nil
	}
	if a.confirm != "" {
		return usage("--confirm %s does not name the cluster, which is %s", a.confirm, cluster)
	}
	if _, ok := isTerminal(a.in); !ok {
		return usage("%s; say --confirm %s if that is meant", what, cluster)
	}
	line, err := a.hear(what + "\nWrite the cluster's name to go on: ")
	if errors.Is(err, errAtQuestion) {
		return err
	}
	if err != nil || strings.TrimSpace(line) != cluster {
		return &exit{exitFailed, fmt.Errorf("that is not the cluster's name; %w", errDeclined)}
	}
	return nil
}

// hear shows a question and reads the line that is typed.
func (a *app) hear(question string) (string, error) {
	fmt.Fprint(a.err, question)
	return a.interruptible(func() (string, error) { return bufio.NewReader(a.in).ReadString('\n') })
}

// hearUnseen shows a question and reads a line that the terminal does not show.
func (a *app) hearUnseen(fd int, question string) (string, error) {
	fmt.Fprint(a.err, question)
	before, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	text, err := a.interruptible(func() (string, error) {
		b, err := term.ReadPassword(fd)
		return string(b), err
	})
	if errors.Is(err, errAtQuestion) {
		return "", errors.Join(err, term.Restore(fd, before))
	}
	fmt.Fprintln(a.err)
	return text, err
}

// interruptible waits for what is typed, or until the program is interrupted:
// then it leaves at once, and whoever still reads goes down with the program.
func (a *app) interruptible(read func() (string, error)) (string, error) {
	type typed struct {
		text string
		err  error
	}
	got := make(chan typed, 1)
	a.asking.Store(true)
	defer a.asking.Store(false)
	go func() {
		text, err := read()
		got <- typed{text, err}
	}()
	select {
	case t := <-got:
		return t.text, t.err
	case <-a.soft.Done():
		return "", &exit{exitInterrupted, errAtQuestion}
	}
}
