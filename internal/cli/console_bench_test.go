package cli

import (
	"slices"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

// BenchmarkTheFirstPage measures how long it takes until a person who is signed in sees the heading of the first page,
// and what was filed, with a processor that is slowed down four times. The browser has kept the files of the console,
// or loads all of them.
func BenchmarkTheFirstPage(b *testing.B) {
	o := openOffice(b, theWhole)
	for _, kept := range []bool{true, false} {
		b.Run(map[bool]string{true: "kept", false: "loaded"}[kept], func(b *testing.B) {
			browser := testbed.StartBrowser(b, 1280, 800)
			signInAtTheDoor(browser, o)
			browser.Keeps(kept)
			browser.Slow(4)
			browser.Before(`
				const first = window.first = {}
				new MutationObserver(() => {
					first.heading ||= document.querySelector('h1') && performance.now()
					first.content ||= document.body?.textContent.includes('filed today') && performance.now()
				}).observe(document, { subtree: true, childList: true, characterData: true })`)
			var headings, contents []float64
			for b.Loop() {
				browser.Open(o.service.address() + "/")
				browser.Until("the first page is there", "first.content > 0")
				var first struct{ Heading, Content float64 }
				browser.Run("first", &first)
				headings, contents = append(headings, first.Heading), append(contents, first.Content)
			}
			slices.Sort(headings)
			slices.Sort(contents)
			b.ReportMetric(headings[len(headings)/2], "ms/heading")
			b.ReportMetric(contents[len(contents)/2], "ms/content")
		})
	}
}
