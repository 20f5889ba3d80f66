package main

import (
	"bytes"
	"os"
	"testing"
)

// The notices name what is linked today.
func TestNoticesAreCurrent(t *testing.T) {
	var want bytes.Buffer
	if err := os.Chdir("../.."); err != nil {
		t.Fatal(err)
	}
	if err := write(&want, "./cmd/verbund"); err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("docs/third-party.md")
	if err != nil || !bytes.Equal(got, want.Bytes()) {
		t.Errorf("docs/third-party.md is not what is linked (%v); run go run ./tools/notices > docs/third-party.md", err)
	}
}
