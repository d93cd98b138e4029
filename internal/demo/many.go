package demo

import (
	"fmt"
	"iter"
	"math/rand/v2"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/register"
)

// What many filings are made of. Names are put together from parts, so that a
// million of them repeat as those of an office do, and no more.
var (
	manyVessels = parts("Thrift Bluebell Sandling Corrin Marram Kittiwake Petrel Fulmar Dunlin Sanderling Guillemot "+
		"Razorbill Shearwater Turnstone Whimbrel Plover Avocet Curlew Godwit Tern", "Castle Star Venture Trader Spirit "+
		"Pioneer Breeze Bay Point Sound Reach Haven Light Wave Dawn Crest Rock Sand Isle Firth")
	people = parts("Oda Ansel Ines Rowan Zoë Tamsin Bram Elke Jory Mirren Søren Petra Lowen Maeve Harald Wenna Ivo "+
		"Sanne Edda Corin", "Fenwick Quorn Halloway Ørsted Tregear Lindqvist Marrick Penhale Straube Askew Bellweather "+
		"Dunmore Kerslake Northcott Ravenhill Sturrock Thackeray Uren Vance Wetherby")
	firms = parts("Tidewatch Deepline Kelp Saltmarsh Marram Corrin Brackwater Seaholm Gannet Longshore Breakwater "+
		"Harrow Stackpole Wrack Dogger Fairisle Lundy Viking Forth Tyne", "Instruments Divers Mutual Waste Shipping Agency "+
		"Chandlers Surveys Towage Bunkering Stevedores Pilots Dredging Forwarding Cranes")
	matters = parts("monthly weekly daily annual final corrected provisional signed revised urgent second interim",
		"readings certificate survey manifest declaration invoice permit notice plan report protocol chart list schedule "+
			"statement tender order receipt licence roster")
	quarters = strings.Fields("quay-A quay-B quay-C north-mole south-mole lock dry-dock fish-market ferry-steps " +
		"coal-berth slipway basin fairway anchorage dolphin pontoon")
)

func parts(first, second string) []string {
	var all []string
	for _, a := range strings.Fields(first) {
		for _, b := range strings.Fields(second) {
			all = append(all, a+" "+b)
		}
	}
	return all
}

// kindsOf are the kinds of filed files with an extension of each, in about the
// shares in which offices receive them.
var kindsOf = [][2]string{{"pdf", "pdf"}, {"pdf", "pdf"}, {"pdf", "pdf"}, {"pdf", "pdf"}, {"spreadsheet", "csv"},
	{"spreadsheet", "xlsx"}, {"picture", "jpg"}, {"document", "docx"}, {"archive", "zip"}, {"message", "eml"}}

// Many makes n lines of a register as a busy harbour office has them after some
// years: about twelve years before until, two files a message, forty rules, eight
// mailboxes, six thousand senders. The same seed makes the same lines.
func Many(n int, seed uint64, until time.Time) iter.Seq[register.Row] {
	return func(yield func(register.Row) bool) {
		r := rand.New(rand.NewPCG(seed, 1))
		pick := func(from []string) string { return from[r.IntN(len(from))] }
		span := 12 * 365 * 24 * time.Hour
		at := until.Add(-span)
		step := span / time.Duration(max(n, 1))
		var row register.Row
		number, left := 0, 0
		for i := range n {
			at = at.Add(step)
			if number++; i == 0 || at.Year() != row.Number.Year {
				number = 1
			}
			if left--; left < 0 {
				left = r.IntN(4)
				row = register.Row{Message: row.Message + 1, Received: at.Add(-time.Duration(r.IntN(300)) * time.Second).Unix()}
				row.SenderName = pick(people)
				firm := pick(firms)
				row.SenderAddress = strings.ToLower(strings.ReplaceAll(row.SenderName, " ", ".")+"@"+
					strings.ReplaceAll(firm, " ", "-")) + ".example"
				if r.IntN(3) == 0 {
					row.SenderName = firm
				}
				row.MailboxID = fmt.Sprintf("mailbox-%d", r.IntN(8))
				row.Mailbox = "office " + row.MailboxID[8:]
				rule := r.IntN(40)
				row.RuleID, row.Rule = fmt.Sprintf("rule-%d", rule), matters[rule*5]+" of "+quarters[rule%len(quarters)]
				row.Subject = fmt.Sprintf("%s, MV %s, %s, %s", pick(matters), pick(manyVessels), pick(quarters),
					at.Format("2 January 2006"))
				if r.IntN(4) == 0 {
					row.Subject = "Re: " + row.Subject
				}
			}
			kind := kindsOf[r.IntN(len(kindsOf))]
			row.Number = register.Number{Year: at.Year(), Number: number}
			row.State, row.Filed, row.Notes = register.Filed, at.Unix(), ""
			row.CabinetID, row.Cabinet, row.Kind = "cabinet", "harbour files", kind[0]
			row.Size = int64(2000 + r.IntN(1000)*r.IntN(6000))
			row.Folder = fmt.Sprintf("%s/%d/%s", row.Rule, at.Year(), at.Format("01 January"))
			row.File = fmt.Sprintf("%s %s BK-%06d.%s", at.Format(time.DateOnly), pick(matters), r.IntN(1_000_000), kind[1])
			switch r.IntN(200) {
			case 0:
				row.State = register.TakenBack
			case 1:
				row.State = register.Missing
			case 2:
				row.State, row.Filed, row.Folder, row.File = register.Void, 0, "", ""
			}
			if !yield(row) {
				return
			}
		}
	}
}
