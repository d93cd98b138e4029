package cli

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/testbed"
)

// A new user follows the guide on the first page, from nothing to the first filed message, with
// a real mail server. The guide stays until that message is filed.
func TestTheGuideLeadsToTheFirstFiledMessage(t *testing.T) {
	source := axe(t)
	d := testbed.StartDovecot(t)
	mail := d.Client("gauges")
	o := openOffice(t, empty)
	code := setupCode(t, o)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	barriers := barriersIn(t, b, source, "light")
	b.Open(o.service.address() + "/set-up#" + code)
	b.Type("Your name", "Ines Halloway")
	b.Type("Choose a password", "brackwater at dusk")
	b.Press("Begin")
	host, port := d.Host, d.IMAP
	todo := func(step string) { // the next step of the guide
		t.Helper()
		b.Press("Today")
		b.Sees("Four steps to the first filed message")
		b.Until("the next step is "+step, `document.querySelector('main ol a.bg-ink')?.innerText === '`+step+`'`)
		b.Press(step)
	}
	b.Sees("Four steps")
	todo("Add a mailbox")
	b.Type("Name", "gauges")
	b.Type("Mail server", host)
	b.Type("Port", fmt.Sprint(port))
	choose(b, "Encryption", "none: the password can be read on the way")
	b.Type("Sign in as", "gauges")
	b.Type("Password", "pw")
	b.Press("Add")
	b.Sees("watched live")
	todo("Choose a cabinet")
	b.Type("Name", "harbour files")
	b.Type("Folder", filepath.Join(o.folder, "files"))
	b.Press("Add")
	b.Sees("in order")
	todo("Make a rule")
	b.Sees("Fill in the blanks of the letter. Then you see here what the rule would do")
	b.Type("Name of the rule", "Readings")
	b.Until("nothing is called wrong that nobody has touched",
		`!document.querySelector('main [role=alert]') && !document.querySelector('[data-wrong=true]')`)
	barriers("a new rule")
	b.Press("from: choose a sender")
	b.Type("Another domain", "tidewatch.example")
	b.Press("Add")
	b.Leave()
	b.Press("Today") // it is not saved yet
	b.Sees("This rule is not saved")
	barriers("leaving a rule that is not saved")
	b.Press("Stay here")
	b.Sees("A new rule")
	goes := func(times, by int) {
		t.Helper()
		var nothing any
		b.Run(fmt.Sprintf("[...Array(%d)].forEach(() => history.go(%d))", times, by), &nothing)
	}
	for _, times := range []int{1, 2} { // the browser's back button asks, too, also where it is pressed twice at once
		goes(times, -1)
		b.Sees("This rule is not saved")
		b.Until("the page is still that of the rule", "location.pathname === '/rules/new'")
		b.Press("Stay here")
		b.Until("the question is gone", "!document.body.innerText.includes('This rule is not saved')")
	}
	b.Press("Save")
	b.Type("Name of the rule", "Readings of all gauges") // it may be on its way still
	b.Until("the rule is saved, and what was typed meanwhile is there",
		`location.pathname !== '/rules/new' && document.querySelector('main input').value === 'Readings of all gauges'`)
	goes(1, -1)
	b.Press("Leave without saving")
	b.Sees("Switch it on")
	goes(1, 1)
	b.Sees("Off. Nothing is filed until you switch it on.")
	b.Until("what was not saved is gone", `document.querySelector('main input').value === 'Readings'`)
	todo("Switch it on")
	b.Press("Switch on…")
	b.Press("Switch on")
	b.Sees("On. 0 files filed so far.")
	b.Press("Today")
	b.Sees("Everything is ready for the first message")
	barriers("waiting for the first message")
	testbed.Append(t, mail, "INBOX",
		[]byte(strings.ReplaceAll("From: Tide watch <post@tidewatch.example>\nTo: gauges@brackwater.example\nSubject: "+
			"Plan\nMessage-ID: <first@tidewatch.example>\nMIME-Version: 1.0\n"+
			"Content-Type: application/pdf; name=plan.pdf\nContent-Disposition: attachment; "+
			"filename=plan.pdf\nContent-Transfer-Encoding: base64\n\nJVBERi0xLjQK\n", "\n", "\r\n")), time.Now())
	b.Sees("As it arrives")
	b.Sees("plan.pdf")
	barriers("the first day")
}

// Nothing that opens leaves the window, and its end can be reached.
func TestWhatOpensStaysInTheWindow(t *testing.T) {
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 720)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	for _, size := range [][2]int{{1280, 720}, {1366, 768}, {1600, 900}, {1920, 1080}} {
		b.Size(size[0], size[1])
		for _, rule := range []string{"tide-gauges", "certificates"} {
			b.Open(o.service.address() + "/rules/" + rule)
			b.Sees("would be filed")
			n := 0
			b.Run(`document.querySelectorAll('button.blank').length`, &n)
			if n < 8 {
				t.Fatalf("the letter of %s has %d blanks", rule, n)
			}
			for i := range n {
				at := []string{"start", "center", "end"}[i%3]
				b.Run(fmt.Sprintf(
					`(() => { const e = document.querySelectorAll('button.blank')[%d]; e.scrollIntoView({block: '%s'}); e.click() })()`, i, at), nil)
				b.Until("a blank is open",
					`document.querySelector('[data-radix-popper-content-wrapper] > *')?.getBoundingClientRect().width > 0`)
				outside := ""
				b.Run(`(() => { const c = document.querySelector('[data-radix-popper-content-wrapper] > *'); const r = c.getBoundingClientRect();
					if (r.top < 0 || r.left < 0 || r.bottom > innerHeight || r.right > innerWidth) return 'it goes from ' + [r.left, r.top, r.right, r.bottom].map(Math.round) + ' in ' + innerWidth + 'x' + innerHeight;
					const last = [...c.querySelectorAll('button, input, select, textarea')].filter(e => e.checkVisibility()).at(-1);
					if (!last) return '';
					last.scrollIntoView({block: 'nearest'}); const l = last.getBoundingClientRect();
					return l.bottom > innerHeight + 1 || l.top < 0 ? 'its end cannot be reached: ' + (last.innerText || last.outerHTML).slice(0, 60) + ' goes from ' + [l.top, l.bottom].map(Math.round) + ' in ' + [r.top, r.bottom].map(Math.round) : '' })()`, &outside)
				if outside != "" {
					name := ""
					b.Run(fmt.Sprintf(`document.querySelectorAll('button.blank')[%d].getAttribute('aria-label')`, i), &name)
					t.Errorf("%dx%d, %s, the blank %q at the %s: %s", size[0], size[1], rule, name, at, outside)
				}
				b.Leave()
			}
		}
	}
}

// A console that was opened before an update does not go blank when its parts are gone.
func TestAConsoleOfAnOlderVersionSaysToLoadAgain(t *testing.T) {
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Sees("As it arrives")
	// The parts of pages that were not opened yet are no longer there.
	const part = "*://*:*/assets/register-*.js"
	b.Withhold(part, true)
	b.Run(`window.sessionStorage.setItem('loaded again', String(Date.now()))`, nil) // as if loading again had not helped
	b.Press("Register")
	b.Sees("This page cannot be shown")
	b.Press("Today")
	b.Sees("As it arrives")
	b.Withhold(part, false)
	b.Open(o.service.address() + "/register")
	b.Until("the register is shown after loading again", `document.querySelectorAll('tbody tr').length > 3`)
}
