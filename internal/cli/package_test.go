package cli

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// The Debian package makes a user and folders, and the program runs as that user with the settings that come along; an
// upgrade keeps what was set, and neither removing nor purging takes the records away. It changes the machine, so it is
// left out where not everything is asked for.
func TestThePackageIsInstalledUpgradedAndRemoved(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil || os.Getuid() != 0 || os.Getenv("INKTRAY_REQUIRE_ALL") != "1" {
		t.Skip("a Debian machine that may be changed: be root, and set INKTRAY_REQUIRE_ALL=1")
	}
	if _, err := os.Stat("/var/lib/inktray"); err == nil {
		t.Skip("there are records in /var/lib/inktray already")
	}
	shell := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v %s", name, strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	work := t.TempDir()
	top, err := filepath.Abs(filepath.Join("..", ".."))
	if err != nil {
		t.Fatal(err)
	}
	shell("cp", "-r", filepath.Join(top, "packaging"), filepath.Join(top, "LICENSE"), work)
	built := func(version string) string {
		shell("go", "build", "-ldflags", "-s -w -X inktray.example/inktray/internal/cli.Version="+version, "-o",
			filepath.Join(work, "bin", "inktray"), filepath.Join(top, "cmd", "inktray"))
		shell(filepath.Join(work, "packaging", "build"), version, work)
		all, err := filepath.Glob(filepath.Join(work, "inktray_"+version+"_*.deb"))
		if err != nil || len(all) != 1 {
			t.Fatalf("the package is %v, %v", all, err)
		}
		return all[0]
	}
	t.Cleanup(func() { // whatever happened before
		for _, c := range [][]string{{"dpkg", "--purge", "inktray"}, {"rm", "-rf", "/var/lib/inktray", "/etc/inktray"},
			{"userdel", "inktray"}} {
			_ = exec.Command(c[0], c[1:]...).Run()
		}
	})
	shell("dpkg", "-i", built("0.1.0"))
	who, err := user.Lookup("inktray")
	if err != nil {
		t.Fatal(err)
	}
	private := func(name string, mode os.FileMode) {
		t.Helper()
		info, err := os.Stat(name)
		if err != nil {
			t.Fatal(err)
		}
		if s := info.Sys().(*syscall.Stat_t); info.Mode().Perm() != mode || name == "/var/lib/inktray" &&
			fmt.Sprint(s.Uid) != who.Uid || name == "/etc/inktray" && fmt.Sprint(s.Gid) != who.Gid {
			t.Errorf("%s is %v of %d:%d", name, info.Mode(), s.Uid, s.Gid)
		}
	}
	private("/var/lib/inktray", 0o700)
	private("/etc/inktray", 0o750)
	as := func(args ...string) *exec.Cmd { // as the unit starts it
		return exec.Command("runuser", append([]string{"-u", "inktray", "--", "/usr/bin/inktray"}, args...)...)
	}
	const config = "/etc/inktray/inktray.yaml"
	if out, err := as("serve", "--check", "--config", config).CombinedOutput(); err != nil {
		t.Errorf("the settings that come along: %v %s", err, out)
	}
	runs := func(version string) {
		t.Helper()
		port := testbed.FreePort(t)
		p, err := testbed.Start(t, "/usr/sbin/runuser", []string{"-u", "inktray", "--", "/usr/bin/inktray", "serve",
			"--config", config, "--listen", fmt.Sprintf("127.0.0.1:%d", port)}, port)
		if err != nil {
			t.Fatal(err)
		}
		answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/api/v1/health", port))
		if err != nil || answer.StatusCode != 200 {
			t.Fatalf("%v, %v", answer, err)
		}
		answer.Body.Close()
		p.Stop()
		if out := shell("/usr/bin/inktray", "--version"); !strings.Contains(out, version) {
			t.Errorf("the version is %s", out)
		}
	}
	runs("0.1.0")

	file, err := os.OpenFile(config, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := file.WriteString("time-zone: Europe/Oslo\n"); err != nil {
		t.Fatal(err)
	}
	if err := file.Close(); err != nil {
		t.Fatal(err)
	}
	shell("dpkg", "-i", built("0.2.0"))
	if text, err := os.ReadFile(config); err != nil || !strings.Contains(string(text), "time-zone: Europe/Oslo\n") {
		t.Errorf("after an upgrade the settings are %s, %v", text, err)
	}
	runs("0.2.0")

	records := "/var/lib/inktray/inktray.db"
	for _, how := range []string{"--remove", "--purge"} {
		shell("dpkg", how, "inktray")
		if _, err := os.Stat("/usr/bin/inktray"); err == nil {
			t.Errorf("after %s the program is there", how)
		}
		if _, err := os.Stat(records); err != nil {
			t.Errorf("after %s the records are gone: %v", how, err)
		}
	}
	if _, err := os.Stat(config); err == nil {
		t.Error("after a purge the settings are there")
	}
}
