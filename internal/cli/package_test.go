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

// shell runs a program and gives what it says.
func shell(t *testing.T, name string, args ...string) string {
	t.Helper()
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v %s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// packed builds the program into a folder, and lays beside it what packages are made with.
func packed(t *testing.T) (work string) {
	t.Helper()
	top, err := filepath.Abs(filepath.Join("..", ".."))
	if err != nil {
		t.Fatal(err)
	}
	work = t.TempDir()
	shell(t, "cp", "-r", filepath.Join(top, "packaging"), filepath.Join(top, "LICENSE"), work)
	shell(t, "go", "build", "-ldflags", "-X inktray.example/inktray/internal/cli.Version=0.1.0", "-o",
		filepath.Join(work, "bin", "inktray"), filepath.Join(top, "cmd", "inktray"))
	return work
}

// The container holds nothing but the program, which runs as a user of its own, keeps its records in the volume, and
// listens for others only with a certificate or where it is told that TLS is somebody else's.
func TestTheContainerServes(t *testing.T) {
	if _, err := exec.LookPath("buildah"); err != nil || os.Getuid() != 0 {
		testbed.LeaveOut(t, "buildah, and root to use it")
	}
	work := packed(t)
	storage := fmt.Sprintf("[storage]\ndriver = \"vfs\"\nrunroot = %q\ngraphroot = %q\n", filepath.Join(work, "run"),
		filepath.Join(work, "images"))
	t.Setenv("CONTAINERS_STORAGE_CONF", write(t, "storage.conf", storage))
	shell(t, filepath.Join(work, "packaging", "container"), "inktray-test")
	container := strings.TrimSpace(shell(t, "buildah", "from", "--pull-never", "inktray-test"))
	t.Cleanup(func() { shell(t, "buildah", "rm", container) })
	run := []string{"run", "--isolation", "chroot", "--env", "INKTRAY_WITHOUT_TLS=true"}
	if v := shell(t, "buildah", append(run, container, "--", "/inktray", "--version")...); !strings.Contains(v, "0.1.0") {
		t.Errorf("its version is %s", v)
	}
	out, err := exec.Command("buildah", "run", "--isolation", "chroot", container, "--", "/inktray",
		"serve").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "lets other machines in without TLS") {
		t.Errorf("without a certificate: %v %s", err, out)
	}
	port := testbed.FreePort(t)
	p, err := testbed.Start(t, "/usr/bin/buildah", append(run, "--env", fmt.Sprintf("INKTRAY_LISTEN=127.0.0.1:%d", port),
		container, "--", "/inktray", "serve"), port)
	if err != nil {
		t.Fatal(err)
	}
	answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/api/v1/health", port))
	if err != nil || answer.StatusCode != 200 {
		t.Fatalf("%v, %v", answer, err)
	}
	answer.Body.Close()
	p.Stop()
}

// The Debian package makes a user and folders, and the program runs as that user with the settings that come along; an
// upgrade keeps what was set, and neither removing nor purging takes the records away. It changes the machine, so it is
// left out where not everything is asked for.
func TestThePackageIsInstalledUpgradedAndRemoved(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil || os.Getuid() != 0 || os.Getenv(testbed.RequireAll) != "1" {
		t.Skip("a Debian machine that may be changed: be root, and set INKTRAY_REQUIRE_ALL=1")
	}
	for _, name := range []string{"/var/lib/inktray", "/etc/inktray", "/usr/bin/inktray"} {
		if _, err := os.Stat(name); err == nil {
			t.Skip("Ink Tray is installed here already: there is " + name)
		}
	}
	shell := func(name string, args ...string) string { t.Helper(); return shell(t, name, args...) }
	t.Setenv("DPKG_DEB_COMPRESSOR_TYPE", "none") // xz takes a minute
	work := packed(t)
	built := func(version string) string {
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
	shell("dpkg", "--force-unsafe-io", "-i", built("0.1.0"))
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
		if out := shell("dpkg-query", "-W", "-f", "${Version} ${Status}", "inktray"); out != version+" install ok installed" {
			t.Errorf("the package is %s", out)
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
	shell("dpkg", "--force-unsafe-io", "-i", built("0.2.0"))
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
