package undo_test

import (
	"context"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "undo", &k, nil) }
