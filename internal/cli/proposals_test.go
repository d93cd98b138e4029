package cli

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// A value of a rule is made from a text that a person selects in a paper, in the command line and in the console.
func TestAValueIsMadeFromATextThatIsSelected(t *testing.T) {
	source := axe(t)
	o := duesOffice(t)
	const form = "Order BK-%d\nTotal: %d.180,50 EUR\nDue: 30.11.2026\nPaid: no\nVessel no: MV-%d\n"
	for i := range 6 {
		text := fmt.Sprintf(form, 2010+i, i+1, i)
		if err := o.mail.Deliver("berths", dues(10+i, text), time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	until(t, "all are filed", func() bool {
		return len(value[client.RegisterPage](t, "register", "list", "order:*").Filings) == 8
	})
	paper := number(t, "order:BK-2013")
	said := must(t, "register", "propose", paper, "MV-3")
	says(t, "the proposals", said, "like “MV-3” after “Vessel no:”: finds a value in 6 of 8 papers",
		`- {name: NAME, from: '<file.text find "\bVessel\s+no:\s*(MV-[0-9]+)">'}`, "MV-5", "nothing")
	says(t, "an amount", must(t, "register", "propose", paper, "4.180,50 EUR"), "after “Total:”", "type: amount",
		"in 8 of 8 papers", "4180.50 EUR", "99.00 EUR")
	says(t, "in the subject", must(t, "register", "propose", paper, "dues 13", "--subject"), "<subject.full find ")
	all := value[client.ValueProposals](t, "register", "propose", paper, "MV-3")
	if len(all.Proposals) < 2 || all.Papers != 8 || len(all.Proposals[0].Findings) != 8 ||
		all.Proposals[0].Value != "MV-3" {
		t.Errorf("as JSON: %+v", all)
	}
	says(t, "what is not there", fails(t, "register", "propose", paper, "MV-9"), "this text does not occur in the paper")
	says(t, "the third of one", fails(t, "register", "propose", paper, "MV-3", "--occurrence", "2"), "does not occur")
	says(t, "no text", fails(t, "register", "propose", paper, " "), "selected")
	says(t, "a long text", fails(t, "register", "propose", paper, strings.Repeat("7", 900)), "selected")
	says(t, "no filing", fails(t, "register", "propose", "2026-999", "x"), "there is nothing of that")

	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Press("Rules")
	b.Press("Quay dues")
	b.Press("+ a value that you select in a paper")
	b.Sees("Read a value from a paper")
	choose(b, "Paper", paper)
	b.Until("the text is shown",
		`document.querySelector('[aria-label="Text of the paper"]')?.value.includes("Vessel no: MV-3")`)
	b.Run(`(() => { const t = document.querySelector('[aria-label="Text of the paper"]'); t.focus()
		const at = t.value.indexOf("MV-3"); t.setSelectionRange(at, at + 4)
		t.dispatchEvent(new KeyboardEvent("keyup", { bubbles: true })); return true })()`, nil)
	b.Sees("You selected MV-3")
	b.Sees("Like “MV-3” after “Vessel no:” · found in 6 of 8 papers")
	b.Sees("not found")
	b.Type("Name of the value", "price")
	b.Sees("This rule already reads a value with this name.")
	b.Type("Name of the value", "vessel")
	barriers("a value from a paper")
	b.Scheme("light")
	picture(t, b, "console-value-select")
	b.Press("Add value")
	b.Sees("vessel: <file.text find")
	b.Press("Save")
	until(t, "the rule is saved", func() bool { return strings.Contains(must(t, "rules", "show", "Quay dues"), "vessel") })
}
