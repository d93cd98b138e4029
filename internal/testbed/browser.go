package testbed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"testing"
	"time"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/security"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
)

// Browser is a headless Chromium with one page.
type Browser struct {
	ctx context.Context
	t   testing.TB
}

// StartBrowser starts a browser. Where Chromium is not installed, the test is
// left out and says so.
func StartBrowser(t testing.TB, width, height int) *Browser {
	t.Helper()
	return StartBrowserIn(t, "en-US", width, height)
}

// StartBrowserIn starts a browser whose person reads a language, as StartBrowser does.
func StartBrowserIn(t testing.TB, language string, width, height int) *Browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		LeaveOut(t, "a browser: install chromium")
	}
	allocator, cancel := chromedp.NewExecAllocator(context.Background(), chromedp.ExecPath(path), chromedp.Headless,
		chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("lang", language), chromedp.Flag("accept-lang", language),
		chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(width, height))
	t.Cleanup(cancel)
	ctx, cancelPage := chromedp.NewContext(allocator)
	t.Cleanup(cancelPage)
	ctx, cancelTime := context.WithTimeout(ctx, 15*time.Minute)
	t.Cleanup(cancelTime)
	b := &Browser{ctx: ctx, t: t}
	b.must(chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))))
	return b
}

func (b *Browser) must(err error) {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
}

// Open goes to an address and waits until the page has loaded.
func (b *Browser) Open(url string) {
	b.t.Helper()
	b.must(chromedp.Do(b.ctx, chromedp.Navigate(url)))
}

// Scheme asks for the light or the dark look, or for that in the colours of the system ("forced").
func (b *Browser) Scheme(scheme string) {
	b.t.Helper()
	forced := "none"
	if scheme == "forced" {
		scheme, forced = "light", "active"
	}
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia,
		emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme},
				{Name: "forced-colors", Value: forced}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
	b.must(err)
}

// Slow slows the processor down for the page, by so many times.
func (b *Browser) Slow(times float64) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: times})
	b.must(err)
}

// Keeps says whether the browser keeps what it has loaded for the next page.
func (b *Browser) Keeps(kept bool) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, network.Enable, network.EnableParams{})
	b.must(err)
	_, err = chromedp.Call(b.ctx, network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: !kept})
	b.must(err)
}

// Before runs a script in every page before its own.
func (b *Browser) Before(script string) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, page.AddScriptToEvaluateOnNewDocument,
		page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
	b.must(err)
}

// Trust lets the browser take any certificate: those of tests are signed by nobody whom it knows.
func (b *Browser) Trust() {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, security.SetIgnoreCertificateErrors,
		security.SetIgnoreCertificateErrorsParams{Ignore: true})
	b.must(err)
}

// Device gives the browser a device that keeps passkeys. Whoever holds it gives a finger, or does not.
func (b *Browser) Device() (finger func(given bool)) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, webauthn.Enable, webauthn.EnableParams{})
	b.must(err)
	made, err := chromedp.Call(b.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
			Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true,
			AutomaticPresenceSimulation: true, IsUserVerified: true}})
	b.must(err)
	return func(given bool) {
		b.t.Helper()
		_, err := chromedp.Call(b.ctx, webauthn.SetUserVerified,
			webauthn.SetUserVerifiedParams{AuthenticatorID: made.AuthenticatorID, IsUserVerified: given})
		b.must(err)
	}
}

// Size changes the page's size.
func (b *Browser) Size(width, height int) {
	b.t.Helper()
	b.must(chromedp.Do(b.ctx, chromedp.EmulateViewport(int64(width), int64(height))))
}

// Withhold lets nothing come whose address fits a pattern such as *://*:*/assets/x-*.js, or
// lets it come again.
func (b *Browser) Withhold(pattern string, withheld bool) {
	b.t.Helper()
	_, err := chromedp.Call(b.ctx, network.Enable, network.EnableParams{})
	b.must(err)
	_, err = chromedp.Call(b.ctx, network.SetBlockedURLs,
		network.SetBlockedURLsParams{URLPatterns: []*network.BlockPattern{{URLPattern: pattern, Block: withheld}}})
	b.must(err)
}

// Run evaluates an expression, awaiting it where it is a promise, and reads its
// JSON into a value.
func (b *Browser) Run(expression string, into any) {
	b.t.Helper()
	text, err := b.evaluate(expression)
	b.must(err)
	if into != nil {
		b.must(json.Unmarshal([]byte(text), into))
	}
}

func (b *Browser) evaluate(expression string) (string, error) {
	return chromedp.Run(b.ctx, chromedp.Evaluate[string]("(async () => JSON.stringify(await ("+expression+") ?? null))()",
		chromedp.EvalAwaitPromise))
}

// unasked says whether the browser could not ask the page: it is just being left. What the page itself answers with is
// another error.
func unasked(err error) bool {
	var said *cdproto.Error
	return errors.As(err, &said)
}

// find is JavaScript that finds an element by what a person sees of it: its
// text, its label, or its placeholder.
// What is just being closed is not seen any more, nor can a person reach what is behind an open sheet.
const find = `(() => { const wanted = %s; const seen = e => e.getClientRects().length > 0 && !e.disabled && !e.closest('[role=dialog][data-state=closed], [aria-hidden=true]');
const name = e => (e.getAttribute('aria-label') || (e.labels && e.labels[0] && e.labels[0].textContent) || e.textContent || e.getAttribute('placeholder') || '').replace(/\s+/g, ' ').trim();
const all = [...document.querySelectorAll('%s')].filter(seen);
return all.find(e => name(e) === wanted) || all.find(e => name(e).startsWith(wanted)) || all.find(e => name(e).includes(wanted)) || null })()`

func element(name string) string {
	quoted, _ := json.Marshal(name)
	return fmt.Sprintf(find, quoted, "button, a, input, select, textarea, [role=switch], summary")
}

// field is the same for what can be written into.
func field(name string) string {
	quoted, _ := json.Marshal(name)
	return fmt.Sprintf(find, quoted, "input, textarea")
}

// Until waits for an expression to become true.
func (b *Browser) Until(what, expression string) {
	b.t.Helper()
	deadline := time.After(Patience)
	for pause := 15 * time.Millisecond; ; pause = Longer(pause) {
		text, err := b.evaluate("document.body != null && !!(" + expression + ")") // between two pages there is none
		if !unasked(err) {
			b.must(err)
		}
		if text == "true" {
			return
		}
		select {
		case <-deadline:
			text := ""
			b.Run("document.body?.innerText", &text)
			b.t.Fatalf("waited in vain until %s; the page says:\n%s", what, text)
		case <-time.After(pause):
		}
	}
}

// Sees waits until the page shows a text.
func (b *Browser) Sees(text string) {
	b.t.Helper()
	quoted, _ := json.Marshal(text)
	b.Until("the page shows "+text, "document.body.innerText.replace(/\\s+/g, ' ').includes("+string(quoted)+")")
}

// Press presses a button or link by its name.
func (b *Browser) Press(name string) {
	b.t.Helper()
	b.Until("there is "+name, "(() => { const e = "+element(name)+"; e?.click(); return e })()")
}

// Type writes into a field by its label, in place of what is there.
func (b *Browser) Type(label, text string) {
	b.t.Helper()
	quoted, _ := json.Marshal(text)
	b.Until("there is "+label, `(() => { const e = `+field(label)+
		`; if (!e) return false; e.focus(); const p = e instanceof HTMLTextAreaElement ? HTMLTextAreaElement : HTMLInputElement;
Object.getOwnPropertyDescriptor(p.prototype, 'value').set.call(e, `+string(quoted)+`); e.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
}

// Escape is the key that closes what is open.
const Escape = "\u001b"

// Key sends a key to what has the focus.
func (b *Browser) Key(key string) {
	b.t.Helper()
	b.must(chromedp.Do(b.ctx, chromedp.KeyEvent(key)))
}

// Chord presses a key while Control is held.
func (b *Browser) Chord(key string) {
	b.t.Helper()
	b.must(chromedp.Do(b.ctx, chromedp.KeyEvent(key, chromedp.KeyModifiers(chromedp.ModifierCtrl))))
}

// Leave closes an open blank with the Escape key, and waits until it is gone and the focus is back. A blank that is
// opened before that would be closed again.
func (b *Browser) Leave() {
	b.t.Helper()
	b.Key(Escape)
	b.Until("the blank is closed",
		"!document.querySelector('[data-radix-popper-content-wrapper]') && document.activeElement !== document.body")
}

// Text is what the page shows.
func (b *Browser) Text() string {
	b.t.Helper()
	text := ""
	b.Run("document.body.innerText", &text)
	return text
}

// Picture is the page as a PNG.
func (b *Browser) Picture() []byte {
	b.t.Helper()
	shot, err := chromedp.Call(b.ctx, page.CaptureScreenshot, page.CaptureScreenshotParams{})
	b.must(err)
	return shot.Data
}

// Violation is one finding of axe-core.
type Violation struct {
	ID    string   `json:"id"`
	Help  string   `json:"help"`
	Nodes []string `json:"nodes"`
}

// Axe looks for barriers with axe-core, whose source is handed in.
func (b *Browser) Axe(source string) []Violation {
	b.t.Helper()
	return b.axe(source, `'wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'`)
}

// AxeColours looks only for what depends on colours: enough for the second look of a page that Axe saw in the first.
func (b *Browser) AxeColours(source string) []Violation {
	b.t.Helper()
	return b.axe(source, `'color-contrast', 'link-in-text-block'`)
}

func (b *Browser) axe(source, tags string) []Violation {
	b.t.Helper()
	loaded := false
	if b.Run(`"axe" in window`, &loaded); !loaded {
		b.must(chromedp.Do(b.ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[chromedp.Void](source+"; undefined")(ctx, t)
			return err
		})))
	}
	var found []Violation
	b.Run(`axe.run(document, {runOnly: [`+tags+`]}).then(r => r.violations.map(v => ({id: v.id, help: v.help, `+
		`nodes: v.nodes.map(n => n.html.slice(0, 160) + ' ' + (n.failureSummary || '').slice(0, 240))})))`, &found)
	return found
}

// Heard is a node of the accessibility tree: what a screen reader says of a part of the page.
type Heard struct {
	Role, Name string
	Level      int // of a heading, from 1
}

// Heard is the accessibility tree of the page, in the order in which it is read, without what is ignored there.
func (b *Browser) Heard() (all []Heard) {
	b.t.Helper()
	tree, err := chromedp.Call(b.ctx, accessibility.GetFullAXTree, accessibility.GetFullAXTreeParams{})
	b.must(err)
	nodes := map[accessibility.NodeID]*accessibility.Node{}
	for _, n := range tree.Nodes {
		nodes[n.NodeID] = n
	}
	read := func(v *accessibility.Value, into any) {
		if v != nil && len(v.Value) > 0 {
			b.must(json.Unmarshal(v.Value, into))
		}
	}
	var walk func(n *accessibility.Node)
	walk = func(n *accessibility.Node) {
		if !n.Ignored {
			var h Heard
			read(n.Role, &h.Role)
			read(n.Name, &h.Name)
			for _, p := range n.Properties {
				if p.Name == "level" {
					read(p.Value, &h.Level)
				}
			}
			all = append(all, h)
		}
		for _, id := range n.ChildIDs {
			if child := nodes[id]; child != nil {
				walk(child)
			}
		}
	}
	for _, n := range tree.Nodes {
		if n.ParentID == "" {
			walk(n)
		}
	}
	return all
}
