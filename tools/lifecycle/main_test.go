package main

import (
	"os"
	"testing"
)

func TestTableIsTheOneOfTheModule(t *testing.T) {
	const at = "../../internal/core/versions/lifecycle.txt"
	b, err := os.ReadFile(at)
	if err != nil {
		t.Fatal(err)
	}
	if string(b) != table() {
		t.Errorf("%s is not what the module of the API types says; go run ./tools/lifecycle > internal/core/versions/lifecycle.txt", at)
	}
}
