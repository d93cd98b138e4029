package testbed

import (
	"os"
	"testing"
)

// RequireAll is the environment variable with which a test that would be left out fails
// instead: set it to 1 wherever everything that the tests need can be installed.
const RequireAll = "INKTRAY_REQUIRE_ALL"

// LeaveOut leaves a test out for want of something, or fails where nothing may be left
// out.
func LeaveOut(t testing.TB, want string) {
	t.Helper()
	if os.Getenv(RequireAll) == "1" {
		t.Fatalf("this test needs %s, and %s=1 leaves nothing out", want, RequireAll)
	}
	t.Skip("LEFT OUT: this test needs " + want)
}
