// Package rule holds the rule document: what to look for, which attachments to
// take and where they go. It reads and writes the document, publishes its
// schema, evaluates conditions with reasons and says a rule as a sentence. It
// fetches nothing: it returns which facts it needs (Needs).
package rule

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
)

// Format is the version of the rule document that this package writes.
const Format = 1

// Document is a file of rules.
type Document struct {
	Format int    `json:"format" doc:"version of the document, 1"`
	Rules  []Rule `json:"rules" doc:"the rules, in the order in which they see a message"`
}

// Rule is one rule, whole. Whether it is on, and its place in the order, live
// in the service.
type Rule struct {
	ID          string      `json:"id,omitempty" doc:"given at first save, kept in exports, never changed"`
	Revision    int         `json:"revision,omitempty" doc:"in a file: the state of the rule from which the file was made; a rule that was changed since is not written over. Without it the rule becomes as the file says"`
	Name        string      `json:"name" doc:"what people call the rule"`
	Cabinet     string      `json:"cabinet" doc:"the cabinet in which it files"`
	Look        Look        `json:"look" doc:"the mailboxes and folders that it watches"`
	TimeZone    string      `json:"time zone,omitempty" doc:"IANA name; else the service's own zone"`
	Match       Match       `json:"match" doc:"which messages, or the words: every message"`
	Unless      []Condition `json:"unless,omitempty" doc:"exceptions: a message that fits any of them is passed over"`
	Attachments []Selection `json:"attachments,omitempty" doc:"the first entry that fits an attachment has it"`
	Rest        *Rest       `json:"rest,omitempty" doc:"attachments that no entry had: leave, or a place"`
	Values      []ValueOf   `json:"values,omitempty" doc:"what is read of each file, kept in the register and used in names"`
	FullText    bool        `json:"full text,omitempty" doc:"whether searches of the register find the words inside of what it files"`
	Copies      []Copy      `json:"copies,omitempty" doc:"copies of the message beside its attachments; none where nothing is said"`
	Afterwards  []Step      `json:"afterwards,omitempty" doc:"what is done with the message once its attachments are filed; nothing where nothing is said"`
	LeaveOut    *Defaults   `json:"leave out,omitempty" doc:"what is left out unasked; without this key all of it"`
	Hold        *Cautions   `json:"hold,omitempty" doc:"what waits in the tray until a person has looked; without this key all of it"`
	Then        Then        `json:"then,omitempty" doc:"whether later rules see the message: continue or stop"`
}

// Look says where a rule watches.
type Look struct {
	Mailboxes  Names `json:"mailboxes" doc:"names of mailboxes, or: all"`
	Folders    Names `json:"folders,omitempty" doc:"mail folders by path or role (inbox, archive), or: all, which leaves out trash, junk, drafts, sent and what others share; the inbox where nothing is said"`
	Subfolders bool  `json:"subfolders,omitempty" doc:"whether the folders within these are looked into, too"`
}

// Match is a condition, or every message.
type Match struct {
	Every     bool
	Condition Condition
}

// everyMessage is the written yes to a rule without a condition.
const everyMessage = "every message"

// Condition is a test on a message. All keys of one map must hold.
type Condition struct {
	All            []Condition  `json:"all,omitempty" doc:"every one of these"`
	Any            []Condition  `json:"any,omitempty" doc:"at least one of these"`
	None           []Condition  `json:"none,omitempty" doc:"not one of these"`
	Sender         *SenderTest  `json:"sender,omitempty" doc:"who wrote the message"`
	Recipient      *AddressTest `json:"recipient,omitempty" doc:"anyone in To or Cc, or the address it was delivered to"`
	OriginalSender *AddressTest `json:"original sender,omitempty" doc:"of a forwarded message: who sent it, as the attached message says, or else the lines that mail programs write into the text"`
	DeliveredTo    *AddressTest `json:"delivered to,omitempty" doc:"the address at which the mail server took it in (Delivered-To, X-Original-To)"`
	Subject        *TextTest    `json:"subject,omitempty" doc:"the subject without Re: and Fwd:"`
	SubjectFull    *TextTest    `json:"subject.full,omitempty" doc:"the subject as it was sent"`
	Header         *HeaderTest  `json:"header,omitempty" doc:"any header field"`
	Words          *WordsTest   `json:"words,omitempty" doc:"text in the subject, the body or the attachments' names"`
	Topic          *TopicTest   `json:"topic,omitempty" doc:"what the message is about, learned from examples"`
	Received       *DateTest    `json:"received,omitempty" doc:"when it arrived"`
	Sent           *DateTest    `json:"sent,omitempty" doc:"the date that the sender gave"`
	Size           *SizeTest    `json:"size,omitempty" doc:"of the whole message"`
	Folder         Names        `json:"folder,omitempty" doc:"the mail folder in which it lies, one of these; * for any text"`
	Label          Names        `json:"label,omitempty" doc:"an IMAP keyword on the message, one of these"`
	Read           *bool        `json:"read,omitempty" doc:"whether it was read"`
	Flagged        *bool        `json:"flagged,omitempty" doc:"whether it is flagged"`
	Attachments    *CountTest   `json:"attachments,omitempty" doc:"how many attachments, signature pictures and signatures not counted"`
	Attachment     *ItemTest    `json:"attachment,omitempty" doc:"one attachment that passes all of this"`
	Taken          *bool        `json:"taken earlier,omitempty" doc:"whether an earlier rule takes something of the message; false for what no earlier rule wants"`
}

// AddressTest is a test on addresses. Within one key any entry is enough.
type AddressTest struct {
	Correspondent Names `json:"correspondent,omitempty" doc:"correspondents or groups of them, as kept in Settings; recognised by the address"`
	Address       Names `json:"address,omitempty" doc:"whole addresses"`
	Domain        Names `json:"domain,omitempty" doc:"domains with their subdomains"`
	Exactly       bool  `json:"exactly,omitempty" doc:"without subdomains"`
	Name          Names `json:"name,omitempty" doc:"text in the display name, which a sender can choose freely"`
	Detail        Names `json:"detail,omitempty" doc:"what follows a + in the address (RFC 5233)"`
}

// SenderTest is a test on who wrote the message. What it says of the address may be
// anyone's word; only verified is proven.
type SenderTest struct {
	AddressTest
	Verified *bool `json:"verified,omitempty" doc:"whether it is proven that the message comes from the sender's domain, by a signature (DKIM, RFC 6376) checked here or by a trusted server's report (RFC 8601), aligned as DMARC wants it (RFC 7489)"`
}

// TopicTest asks what a message is about.
type TopicTest struct {
	Is         Names   `json:"is" doc:"topics, as kept in Settings; one of these"`
	Confidence Percent `json:"confidence,omitzero" doc:"how sure it has to be, 50% to 99%; 85% where nothing is said. What is less sure waits in the tray"`
}

// Percent is a share of a hundred.
type Percent int

// MarshalText writes "85%".
func (p Percent) MarshalText() ([]byte, error) { return []byte(strconv.Itoa(int(p)) + "%"), nil }

// UnmarshalText reads "85%" or "85 %".
func (p *Percent) UnmarshalText(text []byte) error {
	n, err := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(string(text)), "%")))
	if err != nil || n < 50 || n > 99 {
		return errors.New("a confidence is a percentage from 50% to 99%, such as 85%")
	}
	*p = Percent(n)
	return nil
}

// HeaderTest is a test on a header field, by its name.
type HeaderTest struct {
	Name  string `json:"name" doc:"of the field, such as X-Reference"`
	There *bool  `json:"there,omitempty" doc:"whether the message has such a field"`
	TextTest
}

// TextTest is a test on a text, without regard to case.
type TextTest struct {
	Contains    Names `json:"contains,omitempty" alias:"contains any" doc:"any of these texts"`
	ContainsAll Names `json:"contains all,omitempty" doc:"every one of these texts"`
	Is          Names `json:"is,omitempty" doc:"the whole text"`
	Begins      Names `json:"begins,omitempty" doc:"how it begins"`
	Ends        Names `json:"ends,omitempty" doc:"how it ends"`
	Like        Names `json:"like,omitempty" doc:"wildcards: * for any text, ? for one character"`
	Matches     Names `json:"matches,omitempty" doc:"regular expressions (RE2)"`
}

// WordsTest looks for texts in several places.
type WordsTest struct {
	In  []Place `json:"in,omitempty" doc:"subject, body, names; all three where nothing is said"`
	Any Names   `json:"any,omitempty" doc:"at least one of these"`
	All Names   `json:"all,omitempty" doc:"every one of these, each in any of the places"`
}

// DateTest is a test on a date.
type DateTest struct {
	After  Day `json:"after,omitzero" doc:"on or after this day, 2026-05-12"`
	Before Day `json:"before,omitzero" doc:"before this day"`
	Within Age `json:"within,omitzero" doc:"in the last: 14 days, 2 weeks, 3 months, 1 year"`
	Older  Age `json:"older,omitzero" doc:"longer ago than: 14 days, 2 weeks, 3 months, 1 year"`
}

// SizeTest is a test on a size.
type SizeTest struct {
	Larger  Size `json:"larger,omitempty" doc:"more than"`
	Smaller Size `json:"smaller,omitempty" doc:"less than"`
}

// CountTest is a test on a number.
type CountTest struct {
	AtLeast *int `json:"at least,omitempty" doc:"this many or more"`
	AtMost  *int `json:"at most,omitempty" doc:"this many or fewer"`
}

// ItemTest is a test on one attachment. All keys must hold; within one key any
// entry is enough.
type ItemTest struct {
	Kind        []KindName  `json:"kind,omitempty" doc:"pdf, document, spreadsheet, picture, archive, e-invoice ..."`
	Extension   Names       `json:"extension,omitempty" doc:"without the dot"`
	Type        Names       `json:"type,omitempty" doc:"media types; image/* for a family"`
	Name        Names       `json:"name,omitempty" doc:"file names with wildcards"`
	NameMatches Names       `json:"name matches,omitempty" doc:"file names as regular expressions (RE2)"`
	Larger      Size        `json:"larger,omitempty" doc:"more than"`
	Smaller     Size        `json:"smaller,omitempty" doc:"less than"`
	Inline      *bool       `json:"inline,omitempty" doc:"whether it is shown within the text"`
	Invoice     Electronic  `json:"electronic invoice,omitempty" doc:"an electronic invoice (EN 16931), as XML or within a PDF: any, one that adds up, or one that does not add up (BR-CO-10 to 16)"`
	Value       []ValueTest `json:"value,omitempty" doc:"a value that the rule reads of the file, compared; of several, any is enough"`
	AllValues   []ValueTest `json:"all values,omitempty" doc:"values that the rule reads of the file, each of which must fit"`
	Text        *InnerText  `json:"text,omitempty" doc:"words inside of PDFs, documents, spreadsheets, presentations and text files; what cannot be read waits in the tray"`
}

// InnerText is a test on the text inside an attachment, without regard to case.
type InnerText struct {
	Contains    Names `json:"contains,omitempty" alias:"contains any" doc:"any of these texts"`
	ContainsAll Names `json:"contains all,omitempty" doc:"every one of these texts"`
	Matches     Names `json:"matches,omitempty" doc:"regular expressions (RE2)"`
}

// Selection is one entry of a rule's attachments: which of them it takes, and to which place, or which it leaves out.
type Selection struct {
	Leave    []ItemTest `json:"leave,omitempty" doc:"these are left where they are"`
	Take     *Take      `json:"take,omitempty" doc:"these are filed, or: everything"`
	Unpack   Unpack     `json:"unpack,omitempty" doc:"what is filed of archives: the files in them, the archive, or both; the archive where nothing is said"`
	Inner    Inner      `json:"inner folders,omitempty" doc:"of unpacked files: keep the archive's own folders, or drop them; kept where nothing is said"`
	Cabinet  string     `json:"cabinet,omitempty" doc:"another cabinet than the rule's"`
	Folder   string     `json:"folder,omitempty" doc:"pattern of the folder in the cabinet"`
	Own      bool       `json:"own folder,omitempty" doc:"whether each message gets a folder of its own below it"`
	Name     string     `json:"name,omitempty" doc:"pattern of the file's name without its extension; the original name where nothing is said"`
	IfExists IfExists   `json:"if name exists,omitempty" doc:"when the name is taken by another content: number, replace or keep"`
}

// Copy is a copy of the message in one form.
type Copy struct {
	As       CopyForm `json:"as" doc:"eml, html, text or pdf"`
	Cabinet  string   `json:"cabinet,omitempty" doc:"another cabinet than the rule's"`
	Folder   string   `json:"folder,omitempty" doc:"pattern of the folder; that of the first entry that takes, where nothing is said"`
	Name     string   `json:"name,omitempty" doc:"pattern of the file's name; the subject where nothing is said"`
	IfExists IfExists `json:"if name exists,omitempty" doc:"when the name is taken by another content: number, replace or keep"`
}

// Take is a list of tests, or everything.
type Take struct {
	Everything bool
	Any        []ItemTest
}

// Rest is the place of what no entry had, or leave.
type Rest struct {
	Leave    bool     `json:"-"`
	Unpack   Unpack   `json:"unpack,omitempty" doc:"what is filed of archives: files, archive or both"`
	Inner    Inner    `json:"inner folders,omitempty" doc:"of unpacked files: keep or drop the archive's own folders"`
	Cabinet  string   `json:"cabinet,omitempty" doc:"another cabinet than the rule's"`
	Folder   string   `json:"folder" doc:"pattern of the folder in the cabinet"`
	Own      bool     `json:"own folder,omitempty" doc:"whether each message gets a folder of its own below it"`
	Name     string   `json:"name,omitempty" doc:"pattern of the file's name without its extension"`
	IfExists IfExists `json:"if name exists,omitempty" doc:"when the name is taken by another content: number, replace or keep"`
}

// Names is one text or a list of them; one is written without a list.
type Names []string

// MarshalJSON writes a single entry as a text.
func (n Names) MarshalJSON() ([]byte, error) {
	if len(n) == 1 {
		return json.Marshal(n[0])
	}
	return json.Marshal([]string(n))
}

// MarshalJSON writes the condition, or the words "every message".
func (m Match) MarshalJSON() ([]byte, error) {
	if m.Every {
		return json.Marshal(everyMessage)
	}
	return json.Marshal(m.Condition)
}

// MarshalJSON writes the tests, or the word "everything".
func (t Take) MarshalJSON() ([]byte, error) {
	if t.Everything {
		return json.Marshal("everything")
	}
	return json.Marshal(t.Any)
}

// MarshalJSON writes the place, or the word "leave".
func (r Rest) MarshalJSON() ([]byte, error) {
	if r.Leave {
		return json.Marshal("leave")
	}
	type plain Rest
	return json.Marshal(plain(r))
}

// word is a text out of a fixed list.
type word interface{ choices() []string }

// IfExists says what happens when a name is taken by another content.
type IfExists string

func (IfExists) choices() []string { return []string{"number", "replace", "keep"} }

// Electronic says which electronic invoices are meant.
type Electronic string

// The electronic invoices that a test can ask for.
const (
	AnyInvoice Electronic = "any"
	AddsUp     Electronic = "adds up"
	Wrong      Electronic = "does not add up"
)

func (Electronic) choices() []string {
	return []string{string(AnyInvoice), string(AddsUp), string(Wrong)}
}

// Unpack says what is filed of an archive.
type Unpack string

func (Unpack) choices() []string { return []string{"files", "archive", "both"} }

// Inner says what becomes of an archive's own folders.
type Inner string

func (Inner) choices() []string { return []string{"keep", "drop"} }

// CopyForm is a form in which a copy of a message is filed.
type CopyForm string

// The forms.
const (
	CopyEML  CopyForm = "eml"
	CopyHTML CopyForm = "html"
	CopyText CopyForm = "text"
	CopyPDF  CopyForm = "pdf"
)

func (CopyForm) choices() []string { return []string{"eml", "html", "text", "pdf"} }

// Ext is the extension of a copy, with its dot.
func (f CopyForm) Ext() string {
	if f == CopyText {
		return ".txt"
	}
	return "." + string(f)
}

// Then says whether later rules see the message.
type Then string

func (Then) choices() []string { return []string{"continue", "stop"} }

// Place is where words are looked for.
type Place string

func (Place) choices() []string { return []string{"subject", "body", "names"} }

// KindName is the name of a kind of file.
type KindName string

// EInvoice is a kind that only the inside of a file shows: an electronic invoice, as XML or within a PDF.
const EInvoice KindName = "e-invoice"

func (KindName) choices() []string {
	names := []string{string(EInvoice)}
	for _, row := range mail.Kinds {
		names = append(names, string(row.Kind))
	}
	return names
}

// Default is something that a rule leaves out unasked.
type Default string

// What is left out unasked.
const (
	SignaturePictures  Default = "signature pictures"
	DetachedSignatures Default = "detached signatures"
	ActiveFiles        Default = "active files"
	ForwardedMessages  Default = "forwarded messages"
	DeliveryReports    Default = "delivery reports"
)

func (Default) choices() []string {
	return []string{string(SignaturePictures), string(DetachedSignatures), string(ActiveFiles), string(ForwardedMessages),
		string(DeliveryReports)}
}

// Defaults is a list of what is left out unasked; it may be empty.
type Defaults []Default

// MarshalJSON writes an empty list as one.
func (d Defaults) MarshalJSON() ([]byte, error) {
	if len(d) == 0 {
		return []byte("[]"), nil
	}
	return json.Marshal([]Default(d))
}

// Caution is something that a rule holds for a person to look at.
type Caution string

// What is held.
const (
	DisguisedFiles Caution = "disguised files"
	Macros         Caution = "macros"
	LockedArchives Caution = "locked archives"
	ActiveNames    Caution = "active files"
)

func (Caution) choices() []string {
	return []string{string(DisguisedFiles), string(Macros), string(LockedArchives), string(ActiveNames)}
}

// Cautions is a list of what is held; it may be empty.
type Cautions []Caution

// MarshalJSON writes an empty list as one.
func (c Cautions) MarshalJSON() ([]byte, error) {
	if len(c) == 0 {
		return []byte("[]"), nil
	}
	return json.Marshal([]Caution(c))
}

// SignaturePictureSize is the size in octets below which an inline picture
// counts as belonging to a signature.
const SignaturePictureSize = 20_000

// Size is a number of octets, written as people do: 20 KB, 1.5 MB. Units are
// powers of ten.
type Size int64

// String is the size as people write it.
func (s Size) String() string {
	for _, u := range sizeUnits {
		if int64(s) >= u.octets && (int64(s)*10)%u.octets == 0 {
			return strconv.FormatFloat(float64(s)/float64(u.octets), 'f', -1, 64) + " " + u.name
		}
	}
	return strconv.FormatInt(int64(s), 10) + " B"
}

var sizeUnits = []struct {
	name   string
	octets int64
}{{"GB", 1e9}, {"MB", 1e6}, {"KB", 1e3}}

// MarshalText writes the size as people do.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads "20 KB"; a number alone is octets.
func (s *Size) UnmarshalText(text []byte) error {
	t := strings.ToUpper(strings.TrimSpace(string(text)))
	factor := int64(1)
	for _, u := range sizeUnits {
		if rest, ok := strings.CutSuffix(t, u.name); ok {
			t, factor = rest, u.octets
		}
	}
	t = strings.TrimSuffix(t, "B")
	f, err := strconv.ParseFloat(strings.TrimSpace(t), 64)
	if err != nil || f < 0 || f*float64(factor) > 1e15 {
		return errors.New("a size is a number and B, KB, MB or GB, such as 20 KB")
	}
	*s = Size(f * float64(factor))
	return nil
}

// Day is a calendar day; the zero Day is none.
type Day struct{ Year, Month, Day int }

// IsZero says that no day was given.
func (d Day) IsZero() bool { return d == Day{} }

// In is the moment at which the day begins in a zone.
func (d Day) In(zone *time.Location) time.Time {
	return time.Date(d.Year, time.Month(d.Month), d.Day, 0, 0, 0, 0, zone)
}

// String is the day as 2026-05-12.
func (d Day) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// MarshalText writes the day; no day is written as nothing.
func (d Day) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads 2026-05-12.
func (d *Day) UnmarshalText(text []byte) error {
	t, err := time.Parse(time.DateOnly, strings.TrimSpace(string(text)))
	if err != nil {
		return errors.New("a day is written as year-month-day, such as 2026-05-12")
	}
	*d = Day{t.Year(), int(t.Month()), t.Day()}
	return nil
}

// Age is a span of time back from now; the zero Age is none.
type Age struct {
	Number int
	Unit   string // "day", "week", "month" or "year"
}

// IsZero says that no age was given.
func (a Age) IsZero() bool { return a == Age{} }

// String is the age as "14 days".
func (a Age) String() string {
	if a.Number == 1 {
		return "1 " + a.Unit
	}
	return strconv.Itoa(a.Number) + " " + a.Unit + "s"
}

// Before is the moment that is this long before now.
func (a Age) Before(now time.Time) time.Time {
	switch a.Unit {
	case "year":
		return now.AddDate(-a.Number, 0, 0)
	case "month":
		return now.AddDate(0, -a.Number, 0)
	case "week":
		return now.AddDate(0, 0, -7*a.Number)
	}
	return now.AddDate(0, 0, -a.Number)
}

// MarshalText writes the age as people do.
func (a Age) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads "14 days".
func (a *Age) UnmarshalText(text []byte) error {
	number, unit, _ := strings.Cut(strings.TrimSpace(string(text)), " ")
	n, err := strconv.Atoi(number)
	unit = strings.TrimSuffix(strings.TrimSpace(unit), "s")
	if err != nil || n < 1 || n > 100_000 || unit != "day" && unit != "week" && unit != "month" && unit != "year" {
		return errors.New("an age is a number and days, weeks, months or years, such as 14 days")
	}
	*a = Age{n, unit}
	return nil
}

// each calls f for every condition of the rule, groups included; exception says
// that it is among the exceptions.
func (r *Rule) each(f func(c *Condition, exception bool)) {
	var walk func(list []Condition, exception bool)
	walk = func(list []Condition, exception bool) {
		for i := range list {
			c := &list[i]
			f(c, exception)
			walk(c.All, exception)
			walk(c.Any, exception)
			walk(c.None, !exception)
		}
	}
	if !r.Match.Every {
		f(&r.Match.Condition, false)
		walk(r.Match.Condition.All, false)
		walk(r.Match.Condition.Any, false)
		walk(r.Match.Condition.None, true)
	}
	walk(r.Unless, true)
}

// Labels lists the labels that the rule's conditions name, IMAP's own flag for
// flagged among them: a change of these on an old message wakes the rule.
func (r *Rule) Labels() []string {
	var labels []string
	r.each(func(c *Condition, exception bool) {
		if exception {
			return
		}
		for _, l := range c.Label {
			labels = append(labels, strings.ReplaceAll(l, " ", "_"))
		}
		if c.Flagged != nil && *c.Flagged {
			labels = append(labels, `\Flagged`)
		}
	})
	return labels
}

// Correspondents lists the correspondents and groups that the rule names, each
// with its place.
func (r *Rule) Correspondents() []string {
	var names []string
	for _, use := range r.CorrespondentUses() {
		names = append(names, use.Name)
	}
	return names
}

// CorrespondentUse is where a rule names a correspondent or a group.
type CorrespondentUse struct{ Name, Place string }

// CorrespondentUses lists the correspondents and groups with their places.
func (r *Rule) CorrespondentUses() []CorrespondentUse {
	var uses []CorrespondentUse
	r.eachAt(func(c *Condition, place string) {
		var sender *AddressTest
		if c.Sender != nil {
			sender = &c.Sender.AddressTest
		}
		for _, t := range []struct {
			key  string
			test *AddressTest
		}{{"sender", sender}, {"recipient", c.Recipient}, {"original sender", c.OriginalSender},
			{"delivered to", c.DeliveredTo}} {
			if t.test == nil {
				continue
			}
			for _, name := range t.test.Correspondent {
				uses = append(uses, CorrespondentUse{name, place + "." + t.key + ".correspondent"})
			}
		}
	})
	return uses
}

// TopicUse is where a rule names a topic.
type TopicUse struct{ Name, Place string }

// Topics lists the topics that the rule names, with their places.
func (r *Rule) Topics() []TopicUse {
	var uses []TopicUse
	r.eachAt(func(c *Condition, place string) {
		if c.Topic != nil {
			for _, name := range c.Topic.Is {
				uses = append(uses, TopicUse{name, place + ".topic.is"})
			}
		}
	})
	return uses
}

// eachAt calls f for every condition of the rule with its place.
func (r *Rule) eachAt(f func(c *Condition, place string)) {
	var walk func(c *Condition, place string)
	walk = func(c *Condition, place string) {
		f(c, place)
		for _, g := range []struct {
			key  string
			list []Condition
		}{{"all", c.All}, {"any", c.Any}, {"none", c.None}} {
			for i := range g.list {
				walk(&g.list[i], fmt.Sprintf("%s.%s[%d]", place, g.key, i))
			}
		}
	}
	walk(&r.Match.Condition, "match")
	for i := range r.Unless {
		walk(&r.Unless[i], fmt.Sprintf("unless[%d]", i))
	}
}

// Cabinets lists the cabinets that the rule names, its own first.
func (r *Rule) Cabinets() []string {
	names := []string{r.Cabinet}
	add := func(name string) {
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for i := range r.Attachments {
		add(r.Attachments[i].Cabinet)
	}
	if r.Rest != nil {
		add(r.Rest.Cabinet)
	}
	for i := range r.Copies {
		add(r.Copies[i].Cabinet)
	}
	return names
}

// Looks says whether the rule watches a mailbox.
func (l *Look) Looks(mailbox string) bool {
	for _, m := range l.Mailboxes {
		if m == "all" || strings.EqualFold(m, mailbox) {
			return true
		}
	}
	return false
}

// Every says whether the rule looks into every folder.
func (l *Look) Every() bool { return len(l.Folders) == 1 && strings.EqualFold(l.Folders[0], "all") }

// In lists the folders as written; the inbox where nothing is said.
func (l *Look) In() []string {
	if len(l.Folders) == 0 {
		return []string{"inbox"}
	}
	return l.Folders
}
