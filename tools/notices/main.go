// Command notices writes docs/third-party.md: every module that is linked into the
// program, with its version, its licence and whose it is.
//
//	go run ./tools/notices > docs/third-party.md
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// licences are told by a sentence that only they have.
var licences = []struct{ name, sentence string }{
	{"Apache-2.0", "Apache License"},
	{"MPL-2.0", "Mozilla Public License Version 2.0"},
	{"ISC", "Permission to use, copy, modify, and/or distribute this software for any"},
	{"ISC", "Permission to use, copy, modify, and distribute this software for any"},
	{"MIT", "Permission is hereby granted, free of charge"},
	{"BSD-3-Clause", "Neither the name of"},
	{"BSD-3-Clause", "The names of its contributors may not"},
	{"BSD-2-Clause", "Redistributions in binary form must reproduce"},
	{"OFL-1.1", "SIL OPEN FONT LICENSE"},
	{"CC-BY-3.0", "Creative Commons Attribution 3.0"},
	{"CC-BY-4.0", "Attribution 4.0 International"},
	{"FTL", "FreeType License"},
	{"Unlicense", "This is free and unencumbered software"},
}

func main() {
	if err := write(os.Stdout, "./cmd/verbund"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type module struct{ Path, Version, Dir string }

func write(w io.Writer, program string) error {
	ms, err := linked(program)
	if err != nil {
		return err
	}
	fmt.Fprint(w, "# What others wrote\n\nModules that are linked into the program, made by `go run ./tools/notices > docs/third-party.md`.\nTheir licences lie in their sources, under these versions.\n\n| module | version | licence | whose |\n|---|---|---|---|\n")
	var unknown []string
	for _, m := range ms {
		name, whose, err := licence(m.Dir)
		if err != nil {
			unknown = append(unknown, m.Path+": "+err.Error())
			continue
		}
		fmt.Fprintf(w, "| %s | %s | %s | %s |\n", m.Path, m.Version, name, strings.ReplaceAll(whose, "|", "\\|"))
	}
	if len(unknown) > 0 {
		return errors.New("licences that are not known:\n" + strings.Join(unknown, "\n"))
	}
	return nil
}

// linked lists the modules of all packages that a program is built from.
func linked(program string) ([]module, error) {
	out, err := exec.Command("go", "list", "-deps", "-json=Module", program).Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	seen := map[string]module{}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p struct {
			Module *struct {
				module
				Main    bool
				Replace *module
			}
		}
		if err := d.Decode(&p); err == io.EOF {
			break
		} else if err != nil {
			return nil, err
		}
		if m := p.Module; m != nil && !m.Main {
			if m.Replace != nil {
				m.module = *m.Replace
			}
			seen[m.Path] = m.module
		}
	}
	var ms []module
	for _, m := range seen {
		ms = append(ms, m)
	}
	slices.SortFunc(ms, func(a, b module) int { return strings.Compare(a.Path, b.Path) })
	return ms, nil
}

// licence reads the licence of a module, from its folder or the nearest above it.
func licence(dir string) (name, whose string, err error) {
	for d := dir; len(d) > 1; d = filepath.Dir(d) {
		es, err := os.ReadDir(d)
		if err != nil {
			return "", "", err
		}
		for _, e := range es {
			up := strings.ToUpper(e.Name())
			if e.IsDir() || !strings.HasPrefix(up, "LICENSE") && !strings.HasPrefix(up, "LICENCE") && !strings.HasPrefix(up, "COPYING") {
				continue
			}
			b, err := os.ReadFile(filepath.Join(d, e.Name()))
			if err != nil {
				return "", "", err
			}
			text := strings.Join(strings.Fields(string(b)), " ")
			for _, l := range licences {
				if strings.Contains(text, l.sentence) {
					return l.name, owner(string(b)), nil
				}
			}
		}
		if strings.Contains(filepath.Base(d), "@") {
			break
		}
	}
	return "", "", fmt.Errorf("no licence is found in %s", filepath.Base(dir))
}

// owner is the first line that says whose it is.
func owner(text string) string {
	for sc := bufio.NewScanner(strings.NewReader(text)); sc.Scan(); {
		line := strings.TrimSpace(sc.Text())
		if strings.HasPrefix(line, "Copyright") && !strings.Contains(line, "[yyyy]") && !strings.Contains(line, "{yyyy}") && !strings.Contains(line, "copyright owner") {
			return line
		}
	}
	return "its authors"
}
