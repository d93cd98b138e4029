package console

import (
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/testbed"
)

func get(t *testing.T, app *fiber.App, path string, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", "http://127.0.0.1"+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := app.Test(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response, string(body)
}

func TestThePageHasANonceOfItsOwnAndItsFilesLastForEver(t *testing.T) {
	app := fiber.New()
	Register(app)
	nonce := regexp.MustCompile(`script-src 'self' 'nonce-([A-Z0-9]+)'`)
	seen := map[string]bool{}
	var page string
	for _, path := range []string{"/", "/rules/any", "/settings?add=mailbox"} {
		response, body := get(t, app, path)
		found := nonce.FindStringSubmatch(response.Header.Get("Content-Security-Policy"))
		if response.StatusCode != 200 || found == nil || seen[found[1]] {
			t.Fatalf("%s: %d, policy %q", path, response.StatusCode, response.Header.Get("Content-Security-Policy"))
		}
		seen[found[1]] = true
		if strings.Contains(body, "__CSP_NONCE__") || response.Header.Get("Cache-Control") != "no-store" {
			t.Errorf("%s: the page keeps its place for the nonce, or may be kept", path)
		}
		page = body
	}
	if strings.Contains(page, "built without its console") {
		testbed.LeaveOut(t, "the built console: run make console")
	}
	script := regexp.MustCompile(`src="(/assets/[^"]+\.js)"`).FindStringSubmatch(page)
	if script == nil {
		t.Fatalf("the page names no script:\n%s", page)
	}
	plain, body := get(t, app, script[1])
	zipped, short := get(t, app, script[1], "Accept-Encoding", "gzip")
	if !strings.Contains(plain.Header.Get("Cache-Control"), "immutable") ||
		zipped.Header.Get("Content-Encoding") != "gzip" || len(short) >= len(body)/2 {
		t.Errorf("%s: %q, %d octets, compressed %d", script[1], plain.Header.Get("Cache-Control"), len(body), len(short))
	}
	// What comes before the first page: every script that the page names, and the texts.
	scripts := 0
	for _, name := range regexp.MustCompile(`/assets/[^"]+\.js`).FindAllString(page, -1) {
		_, zipped := get(t, app, name, "Accept-Encoding", "gzip")
		scripts += len(zipped)
	}
	asked, _ := get(t, app, "/")
	_, words := get(t, app, regexp.MustCompile(`/assets/[^>]+\.js`).FindString(asked.Header.Get("Link")),
		"Accept-Encoding", "gzip")
	t.Logf("%d octets of script and %d of texts come first", scripts, len(words))
	if scripts < len(short) || scripts > 130_000 {
		t.Errorf("%d octets of script come first, over the limit of 130 kB", scripts)
	}
	if len(words) == 0 || len(words) > 50_000 {
		t.Errorf("%d octets of texts come first, over the limit of 50 kB", len(words))
	}
	for _, outside := range regexp.MustCompile(`https?://[^"' )]+`).FindAllString(page, -1) {
		t.Errorf("the page asks for %s", outside)
	}
	if missing, _ := get(t, app, "/assets/none.js"); missing.StatusCode != 404 {
		t.Errorf("a file that is not there: %d", missing.StatusCode)
	}
}

func TestTheTextsAreOnTheirWayWithThePage(t *testing.T) {
	app := fiber.New()
	Register(app)
	if _, page := get(t, app, "/"); strings.Contains(page, "built without its console") {
		testbed.LeaveOut(t, "the built console: run make console")
	}
	for languages, want := range map[string]string{"": "/assets/en-", "de-AT, en;q=0.5": "/assets/de-",
		"xx": "/assets/en-"} {
		response, _ := get(t, app, "/rules", "Accept-Language", languages)
		link := response.Header.Get("Link")
		file, ok := strings.CutSuffix(link, ">; rel=modulepreload")
		if !ok || !strings.HasPrefix(file, "<"+want) {
			t.Errorf("%q: the link is %q", languages, link)
			continue
		}
		if response, body := get(t, app, strings.TrimPrefix(file, "<")); response.StatusCode != 200 || body == "" {
			t.Errorf("%s: %d", file, response.StatusCode)
		}
	}
}
