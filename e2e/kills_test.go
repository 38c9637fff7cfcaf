package e2e

import (
	"os/exec"
	"testing"
)

// Ten kills of the service, its database and its relay, under load, lose nothing that was taken.
func TestTenKills(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "run", "./soak", "-short", "-kills", "10", "-for", "4m", "-binary", binary).CombinedOutput()
	if err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	t.Logf("%s", out)
}
