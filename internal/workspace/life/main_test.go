package life_test

import (
	"context"
	"os"
	"testing"
	"time"

	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

// The workspace of these tests counts its days in Auckland, where each begins eleven to
// thirteen hours before that of UTC, and the machine is in a third zone.
const zone = "Pacific/Auckland"

func TestMain(m *testing.M) {
	here, err := time.LoadLocation("Asia/Kolkata")
	if err != nil {
		os.Exit(1)
	}
	time.Local = here
	kit.Main(m, "life", &k, nil)
}
