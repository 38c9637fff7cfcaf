package main

import (
	"bytes"
	"os"
	"testing"
)

func TestTheShapesAreThoseOfTheTable(t *testing.T) {
	want, err := Source()
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("../policy.gen.go")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Error("internal/api/policy.gen.go is old; run: go generate ./internal/api/generate")
	}
}
