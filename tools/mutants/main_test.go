package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

const sample = `package sample

import "errors"

func Room(n, most int, ready bool) error {
	if n > most {
		return errors.New("full")
	}
	if !ready && n == 0 {
		return errors.New("not ready")
	}
	err := error(nil)
	if err != nil {
		return err
	}
	return nil
}
`

func TestMutants(t *testing.T) {
	ms, err := mutants("sample.go", []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range ms {
		got = append(got, m.what)
	}
	want := []string{
		"without the guard: if n > most", "<= instead of >: n > most",
		"without the guard: if !ready && n == 0", "without the not: !ready", "|| instead of &&: !ready && n == 0", "!= instead of ==: n == 0",
	}
	if !slices.Equal(got, want) {
		t.Errorf("found\n%s\nwanted\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if _, err := mutants("sample.go", []byte("package")); err == nil {
		t.Error("what is no Go was read")
	}
}

// What a test holds is noticed when it is changed; what none holds survives.
func TestTry(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"go.mod":         "module sample\n\ngo 1.26\n",
		"sample.go":      sample,
		"sample_test.go": "package sample\n\nimport \"testing\"\n\nfunc TestRoom(t *testing.T) {\n\tif Room(3, 2, true) == nil || Room(2, 2, true) != nil {\n\t\tt.Error(\"room\")\n\t}\n}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(dir, "sample.go")
	ms, err := mutants(file, []byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range []string{noticed, noticed, survived} {
		if got, err := try(file, []byte(sample), ms[i], time.Minute); err != nil || got != want {
			t.Errorf("%s: %s, %v; wanted %s", ms[i].what, got, err, want)
		}
	}
	if got, err := try(file, []byte(sample), mutant{from: 0, to: 7, with: "pakage"}, time.Minute); err != nil || got != unbuilt {
		t.Errorf("what does not compile: %s, %v", got, err)
	}
	if b, err := os.ReadFile(file); err != nil || string(b) != sample {
		t.Errorf("the file itself was changed: %v", err)
	}
}
