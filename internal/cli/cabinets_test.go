package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/testbed"
)

// placed is an office with small servers for files.
func placed(t *testing.T) (*office, *demo.Places, string) {
	t.Helper()
	folder := t.TempDir()
	places, err := demo.StartPlaces(folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { places.Close() })
	o := openOffice(t, theLast)
	t.Setenv("INKTRAY_SECRET", demo.Password)
	return o, places, folder
}

// Cabinets of every kind are added, tried out, filed into and moved by the command line.
func TestCabinetsOfEveryKind(t *testing.T) {
	o, places, folder := placed(t)
	says(t, "no kind", fails(t, "cabinets", "add", "office share", "--folder", places.WebDAV, "--user", demo.PlacesName),
		"--kind webdav or --kind s3")
	says(t, "no host key", fails(t, "cabinets", "add", "surveys", "--folder", places.SFTP, "--user", demo.PlacesName),
		"the server's host key is not confirmed yet: it is "+places.HostKey)
	says(t, "another host key",
		fails(t, "cabinets", "add", "surveys", "--folder", places.SFTP, "--user", demo.PlacesName, "--host-key", "SHA256:x"),
		"the server's host key is another one")
	says(t, "no such bucket",
		fails(t, "cabinets", "add", "archive", "--kind", "s3", "--folder", strings.TrimSuffix(places.Objects, "archive")+
			"none", "--user", demo.PlacesName), "there is no bucket “none”")
	says(t, "an odd setting",
		fails(t, "cabinets", "add", "x", "--folder", filepath.Join(o.folder, "x"), "--host-key", "SHA256:x"),
		"a cabinet of the kind local has no host key")
	says(t, "a name in the address",
		fails(t, "cabinets", "add", "x", "--kind", "webdav", "--folder",
			strings.Replace(places.WebDAV, "http://", "http://me:pw@", 1), "--user", demo.PlacesName),
		"name and password have fields of their own")
	t.Setenv("INKTRAY_SECRET", "wrong")
	says(t, "a wrong password",
		fails(t, "cabinets", "add", "office share", "--kind", "webdav", "--folder", places.WebDAV, "--user", demo.PlacesName),
		"the server refuses name or password")
	t.Setenv("INKTRAY_SECRET", demo.Password)
	for _, place := range [][]string{{"--kind", "webdav", places.WebDAV}, {"--kind", "s3", places.Objects},
		{"--host-key", places.HostKey, places.SFTP}} {
		look := append([]string{"cabinets", "look", "--user", demo.PlacesName}, place...)
		if made := value[client.LocalFolder](t, append(look, "--make", "Piers & 50%")...); len(made.Folders) > 0 ||
			!strings.HasSuffix(made.Path, "/Piers%20&%2050%25") || made.Above == nil ||
			*made.Above != place[len(place)-1] {
			t.Errorf("%s: a folder was made: %+v", place, made)
		}
		found := value[client.LocalFolder](t, look...)
		if place[1] != "s3" && !slices.Contains(found.Folders, "Piers & 50%") || slices.Contains(found.Folders, ".inktray") {
			t.Errorf("%s holds %+v", place, found)
		}
		place[len(place)-1] += "/none"
		if place[1] != "s3" { // folders of an object store need not be made
			says(t, "no such folder", fails(t, append(look[:4:4], place...)...), "it is not there")
		}
	}
	says(t, "no such bucket", fails(t, "cabinets", "look", "--user", demo.PlacesName, "--kind", "s3",
		strings.TrimSuffix(places.Objects, "archive")+"none"), "there is no bucket “none”")
	says(t, "a name in the address", fails(t, "cabinets", "look", "--user", demo.PlacesName, "--kind", "webdav",
		strings.Replace(places.WebDAV, "http://", "http://me:a-secret@", 1)), "name and password have fields of their own")
	noted := must(t, "audit", "list")
	if strings.Contains(noted, "a-secret") || !strings.Contains(noted, "look at folders") {
		t.Errorf("the audit trail says:\n%s", noted)
	}
	says(t, "this machine", must(t, "cabinets", "look", folder), "\n")
	says(t, "a name with two levels", fails(t, "cabinets", "look", "--user", demo.PlacesName, "--kind", "webdav",
		places.WebDAV, "--make", "a/b"), "not the name of a folder")
	must(t, "cabinets", "add", "office share", "--kind", "webdav", "--folder", places.WebDAV, "--user", demo.PlacesName)
	must(t, "cabinets", "add", "surveys", "--folder", places.SFTP, "--user", demo.PlacesName, "--host-key", places.HostKey)
	must(t, "cabinets", "add", "archive", "--kind", "s3", "--folder", places.Objects, "--user", demo.PlacesName)
	says(t, "the same place again",
		fails(t, "cabinets", "add", "another", "--kind", "s3", "--folder", places.Objects, "--user", demo.PlacesName),
		"this place is the cabinet “archive” already")
	says(t, "the cabinets", must(t, "cabinets", "list"), "webdav", "sftp", "s3", places.SFTP)
	for name, holds := range map[string]string{"office share": "by one PUT", "surveys": "posix-rename",
		"archive": "which go in parts", "harbour files": "are free"} {
		says(t, name, must(t, "cabinets", "check", name), "is there and can be written to", "a name that is taken is refused",
			holds)
	}
	if out := must(t, "cabinets", "list", "--output", "json"); strings.Contains(out, demo.Password) {
		t.Error("a secret came back")
	}

	// A secret is changed only to one that opens the place.
	t.Setenv("INKTRAY_SECRET", "wrong")
	says(t, "a wrong new secret", fails(t, "cabinets", "change", "office share", "--new-secret"),
		"the server refuses name or password")
	says(t, "it is as it was", must(t, "cabinets", "check", "office share"), "can be written to")
	says(t, "nothing to change", fails(t, "cabinets", "change", "office share"), "say what to change")
	t.Setenv("INKTRAY_SECRET", demo.Password)
	says(t, "a new secret", must(t, "cabinets", "change", "office share", "--new-secret"), "apply from now on")

	// A message with attachments is filed by hand into each.
	var number string
	for _, m := range value[client.LookedInto](t, "messages", "look", "gauges").Messages {
		if m.Attachments > 0 {
			number = itoa(m.ID)
		}
	}
	for _, cabinet := range []string{"office share", "surveys", "archive"} {
		must(t, "messages", "file", number, "--cabinet", cabinet, "--folder", "By hand")
		var all client.RegisterPage
		until(t, "it is filed in "+cabinet, func() bool {
			all = value[client.RegisterPage](t, "register", "list", "--cabinet", cabinet)
			return len(all.Filings) > 0
		})
		answer, err := o.api.GetFile(t.Context(), all.Filings[0].Entry, &client.GetFileParams{})
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		if err != nil || answer.StatusCode != 200 || len(body) != int(all.Filings[0].Size) {
			t.Errorf("%s: %s, %d octets of %d, %v", cabinet, answer.Status, len(body), all.Filings[0].Size, err)
		}
	}
	if found, _ := filepath.Glob(filepath.Join(folder, "webdav", "By hand", "*")); len(found) == 0 {
		t.Error("the WebDAV server has no file")
	}

	// A cabinet is moved, and what was filed is found at its new place.
	new := filepath.Join(o.folder, "moved")
	says(t, "the preview", must(t, "cabinets", "move", "office share", "--folder", new), "would copy all files",
		places.WebDAV, "add --yes")
	says(t, "the move", must(t, "cabinets", "move", "office share", "--folder", new, "--yes"),
		"The cabinet “office share” is "+new+" now")
	if found, _ := filepath.Glob(filepath.Join(new, "By hand", "*")); len(found) == 0 {
		t.Error("the new place has no file")
	}
	says(t, "its files are whole", must(t, "register", "verify", "cabinet:office"), "all are as they were filed")
	says(t, "onto itself", fails(t, "cabinets", "move", "office share", "--folder", new, "--yes"),
		"this place is the cabinet “office share” already")
	says(t, "the history", must(t, "passes", "list", "--kind", "move"), "move", "done")
	if _, err := os.Stat(filepath.Join(folder, "webdav", "By hand")); err != nil {
		t.Errorf("the old place lost its files: %v", err)
	}
}

// In the console a cabinet on a server is added with its mistakes told where they
// belong, checked, and moved.
func TestCabinetsInTheConsole(t *testing.T) {
	source := axe(t)
	o, places, folder := placed(t)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Open(o.service.address() + "/")
	signInAtTheDoor(b, o)
	must(t, "cabinets", "add", "office share", "--kind", "webdav", "--folder", places.WebDAV, "--user", demo.PlacesName)
	must(t, "cabinets", "add", "archive", "--kind", "s3", "--folder", places.Objects, "--user", demo.PlacesName)
	barriers := barriersIn(t, b, source, "light")
	b.Open(o.service.address() + "/settings?add=cabinet")
	choose(b, "What it is", "a folder of an SFTP server")
	b.Type("Name", "surveys")
	b.Type("Address", places.SFTP)
	b.Type("Sign-in name", demo.PlacesName)
	b.Type("Password or private key", demo.Password)
	barriers("the sheet")
	b.Press("Add")
	b.Sees("The server's host key is not confirmed yet")
	b.Type("Host key", places.HostKey)
	b.Type("Address", places.SFTP+"/none")
	last := func(button string) { // of the sheet that lies on top
		all := fmt.Sprintf(`[...document.querySelectorAll('[role=dialog] button')].filter(e => e.innerText === %q)`, button)
		b.Run(all+`.pop().click()`, nil)
	}
	last("Choose…")
	b.Sees("it is not there")
	last("Begin at the top")
	b.Until("the top is listed",
		`[...document.querySelectorAll('[role=dialog] li button')].some(e => e.innerText === 'surveys')`)
	last("surveys")
	b.Sees("↑ the folder above")
	b.Sees("There are no folders in it.")
	b.Type("New folder in it", "By year & more")
	barriers("the folders of a server")
	last("Use this folder")
	b.Until("the new folder is chosen",
		`[...document.querySelectorAll('input')].some(i => i.value.endsWith('/By%20year%20&%20more'))`)
	if info, err := os.Stat(filepath.Join(folder, "sftp", "surveys", "By year & more")); err != nil || !info.IsDir() {
		t.Errorf("the folder is not on the server: %v", err)
	}
	b.Type("Address", places.SFTP)
	b.Run(`[...document.querySelectorAll('[role=dialog] button')].find(e => e.innerText === 'Add').click()`, nil)
	b.Sees(places.SFTP)
	check := `[...document.querySelectorAll('button')].filter(e => e.innerText === 'Check')`
	b.Until("they can be checked", check+`.length === 4`)
	for i, holds := range []string{"which go in parts", "are free", "by one PUT", "posix-rename"} { // by name
		b.Until("no check is under way", check+`.every(e => !e.disabled)`)
		b.Run(check+fmt.Sprintf(`[%d].click()`, i), nil)
		b.Sees(holds)
	}
	barriers("the settings")
	b.Run(`[...document.querySelectorAll('h2')].find(e => e.innerText === 'Cabinets').scrollIntoView()`, nil)
	picture(t, b, "cabinets")
	b.Run(`[...document.querySelectorAll('button')].filter(e => e.innerText === 'Move…').pop().click()`, nil)
	b.Sees("The old place keeps its files")
	b.Type("Folder", filepath.Join(o.folder, "surveys"))
	barriers("the sheet for moving")
	b.Run(`[...document.querySelectorAll('[role=dialog] button')].find(e => e.innerText === 'Move').click()`, nil)
	b.Sees("The cabinet is at its new place now")
	barriers("the pass")
}

// A file that the register does not know is listed, and entered when somebody says so.
func TestFilesWithoutALineAreListedAndEntered(t *testing.T) {
	o := openOffice(t, theLast)
	says(t, "none", must(t, "cabinets", "unknown", "harbour files"), "The register knows all of its ")
	if err := os.MkdirAll(filepath.Join(o.folder, "files", "Old"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(o.folder, "files", "Old", "pier survey.pdf"), []byte("%PDF-1.4 pier"),
		0o644); err != nil {
		t.Fatal(err)
	}
	says(t, "one", must(t, "cabinets", "unknown", "harbour files"), "Old/pier survey.pdf", "The register knows nothing "+
		"of 1 of ")
	says(t, "without a yes", fails(t, "cabinets", "unknown", "harbour files", "--enter"), "Add --yes")
	says(t, "entered", must(t, "cabinets", "unknown", "harbour files", "--enter", "--yes"), "1 file entered in the "+
		"register.")
	says(t, "none is left", must(t, "cabinets", "unknown", "harbour files"), "The register knows all of its ")
	line := value[client.RegisterPage](t, "register", "list", "pier survey").Filings[0]
	says(t, "its story", must(t, "register", "show", line.Entry), "pier survey.pdf", "it was found in the cabinet, and "+
		"no record knew of it", "when Ink Tray first saw it")
	says(t, "verified", must(t, "register", "verify", line.Entry), "")
	must(t, "messages", "why", fmt.Sprint(line.Message))
	must(t, "passes", "show", "1")
}
