package pattern

// Type is what a field holds.
type Type string

// The types of fields.
const (
	Date   Type = "date"
	Text   Type = "text"
	Number Type = "number"
)

// Field is one field of the language.
type Field struct {
	Name     string `json:"name"`
	Type     Type   `json:"type"`
	Doc      string `json:"doc"`
	Fallback string `json:"fallback"` // what is used where the field is empty
	Argument bool   `json:"argument"` // a quoted name follows
	Prose    bool   `json:"prose"`    // only in texts: replies, and what somebody is told
}

// Fields is the table of all fields, for the parser, the editor and the documents.
var Fields = []Field{
	{Name: "received", Type: Date, Doc: "when the message arrived in the mailbox", Fallback: "undated"},
	{Name: "sent", Type: Date, Doc: "the date that the sender gave; empty before 1990 and after tomorrow",
		Fallback: "undated"},
	{Name: "filed", Type: Date, Doc: "when the filing was decided", Fallback: "undated"},
	{Name: "sender.name", Type: Text, Doc: "the sender's display name, else the address", Fallback: "Unknown sender"},
	{Name: "sender.address", Type: Text, Doc: "the sender's address", Fallback: "Unknown sender"},
	{Name: "sender.local", Type: Text, Doc: "the address before the @", Fallback: "Unknown sender"},
	{Name: "sender.domain", Type: Text, Doc: "the address after the @", Fallback: "Unknown sender"},
	{Name: "original.sender.name", Type: Text, Doc: "of a forwarded message: its sender's name",
		Fallback: "Unknown sender"},
	{Name: "original.sender.address", Type: Text, Doc: "of a forwarded message: its sender's address",
		Fallback: "Unknown sender"},
	{Name: "original.sender.local", Type: Text, Doc: "of a forwarded message: its sender before the @",
		Fallback: "Unknown sender"},
	{Name: "original.sender.domain", Type: Text, Doc: "of a forwarded message: its sender after the @",
		Fallback: "Unknown sender"},
	{Name: "recipient.name", Type: Text, Doc: "the first recipient's display name, else the address",
		Fallback: "No recipient"},
	{Name: "recipient.address", Type: Text, Doc: "the first recipient's address", Fallback: "No recipient"},
	{Name: "recipient.local", Type: Text, Doc: "the first recipient before the @", Fallback: "No recipient"},
	{Name: "recipient.domain", Type: Text, Doc: "the first recipient after the @", Fallback: "No recipient"},
	{Name: "recipient.detail", Type: Text, Doc: "what follows a + in the first recipient's address (RFC 5233)",
		Fallback: "No detail"},
	{Name: "correspondent", Type: Text, Doc: "the person or firm that the sender's address belongs to",
		Fallback: "No correspondent"},
	{Name: "subject", Type: Text, Doc: "the subject without Re: and Fwd:", Fallback: "No subject"},
	{Name: "subject.full", Type: Text, Doc: "the subject as it was sent", Fallback: "No subject"},
	{Name: "header", Type: Text, Doc: "any header field, named in quotes", Fallback: "None", Argument: true},
	{Name: "body", Type: Text, Doc: "the text of the message, for find", Fallback: "None"},
	{Name: "mailbox", Type: Text, Doc: "the mailbox's name", Fallback: "No mailbox"},
	{Name: "folder", Type: Text, Doc: "the mail folder's path, its levels joined by -", Fallback: "No folder"},
	{Name: "rule", Type: Text, Doc: "the rule's name", Fallback: "No rule"},
	{Name: "message.key", Type: Text, Doc: "twelve characters that are the message's own", Fallback: "None"},
	{Name: "message.id", Type: Text, Doc: "the Message-ID without its brackets", Fallback: "None"},
	{Name: "file.stem", Type: Text, Doc: "the attachment's name without its extension", Fallback: "Unnamed"},
	{Name: "file.ext", Type: Text, Doc: "the attachment's extension without its dot", Fallback: "none"},
	{Name: "file.kind", Type: Text, Doc: "the attachment's kind: pdf, spreadsheet, picture ...", Fallback: "other"},
	{Name: "file.number", Type: Number, Doc: "which attachment of the message it is, from 1", Fallback: "0"},
	{Name: "file.size", Type: Number, Doc: "octets", Fallback: "0"},
	{Name: "file.path", Type: Text, Doc: "of an archive's entry: its folders in the archive", Fallback: "None"},
	{Name: "file.text", Type: Text,
		Doc:      "the text inside the attachment, for find: of PDFs, documents, spreadsheets, presentations and text files",
		Fallback: "None"},
	{Name: "file.code", Type: Text,
		Doc:      "what the bar codes and QR codes on its pages hold, a line each: of PDFs and pictures",
		Fallback: "No code"},
	{Name: "invoice.number", Type: Text,
		Doc:      "of an electronic invoice (EN 16931), as XML or within a PDF: its number",
		Fallback: "No invoice"},
	{Name: "invoice.type", Type: Text, Doc: "of an electronic invoice: invoice or credit note", Fallback: "No invoice"},
	{Name: "invoice.issued", Type: Date, Doc: "of an electronic invoice: its date", Fallback: "undated"},
	{Name: "invoice.due", Type: Date, Doc: "of an electronic invoice: when it is due", Fallback: "undated"},
	{Name: "invoice.seller", Type: Text, Doc: "of an electronic invoice: the seller's name", Fallback: "Unknown seller"},
	{Name: "invoice.vat", Type: Text, Doc: "of an electronic invoice: the seller's VAT number", Fallback: "None"},
	{Name: "invoice.buyer", Type: Text, Doc: "of an electronic invoice: the buyer's name", Fallback: "Unknown buyer"},
	{Name: "invoice.order", Type: Text, Doc: "of an electronic invoice: the number of the order", Fallback: "No order"},
	{Name: "invoice.reference", Type: Text, Doc: "of an electronic invoice: the buyer's reference",
		Fallback: "No reference"},
	{Name: "invoice.currency", Type: Text, Doc: "of an electronic invoice: such as EUR", Fallback: "None"},
	{Name: "invoice.net", Type: Text, Doc: "of an electronic invoice: the total without tax, such as 1180.50",
		Fallback: "0"},
	{Name: "invoice.tax", Type: Text, Doc: "of an electronic invoice: the tax", Fallback: "0"},
	{Name: "invoice.total", Type: Text, Doc: "of an electronic invoice: the total with tax", Fallback: "0"},
	{Name: "invoice.payable", Type: Text, Doc: "of an electronic invoice: what is to be paid", Fallback: "0"},
	{Name: "invoice.faults", Type: Text,
		Doc: "of an electronic invoice: the rules of the standard that its sums do not keep, such as BR-CO-15; empty where " +
			"it adds up", Fallback: "None"},
	{Name: "archive.stem", Type: Text, Doc: "of an archive's entry: the archive's name without its extension",
		Fallback: "Unnamed"},
	{Name: "filed.list", Type: Text,
		Doc: "in replies and notifications: the folder and name of each file that was filed, a line " +
			"each", Fallback: "Nothing",
		Prose: true},
	{Name: "filed.count", Type: Number, Doc: "in replies and notifications: how many files were filed", Fallback: "0",
		Prose: true},
	{Name: "register", Type: Number, Doc: "the running number of the year in the register", Fallback: "0"},
	{Name: "register.year", Type: Number, Doc: "the year of that number", Fallback: "0"},
}

// Word is one word that may follow a field, for the editor and the documents.
type Word struct {
	Name    string `json:"name"`
	Dates   bool   `json:"dates"` // only after a date
	Example string `json:"example"`
	Doc     string `json:"doc"`
}

// Words is the table of all words.
var Words = []Word{
	{"year", true, "received year", "2026"},
	{"month", true, "received month", "05"},
	{"month name", true, "received month name", "May"},
	{"day", true, "received day", "12"},
	{"date", true, "received date", "2026-05-12"},
	{"week", true, "received week", "20 (ISO 8601)"},
	{"week year", true, "received week year", "the year that the week belongs to"},
	{"quarter", true, "received quarter", "Q2"},
	{"time", true, "received time", "06.02"},
	{"as", true, `received as "yyyy-MM"`, "any form of date (UTS #35)"},
	{"minus", true, "received minus 1 month year", "an earlier date"},
	{"find", false, `subject find "BK-[0-9]+"`, "the part that fits a regular expression, or its first group"},
	{"without", false, `file.stem without "^scan "`, "all but what fits"},
	{"first", false, "subject first 3 words", "the first words or characters"},
	{"upper", false, "file.stem upper", "in capitals"},
	{"lower", false, "file.stem lower", "in small letters"},
	{"plain", false, "sender.name plain", "in plain Latin letters"},
	{"pad", false, "register pad 4", "with zeros in front"},
}

var (
	textWords = []string{"find", "without", "first", "upper", "lower", "plain", "pad"}
	dateWords = []string{"year", "month", "month name", "day", "date", "week", "week year", "quarter", "time"}
)

func fieldNamed(name string) *Field {
	for i := range Fields {
		if Fields[i].Name == name {
			return &Fields[i]
		}
	}
	return nil
}

func fieldNames() []string {
	names := make([]string, 0, len(Fields)+1)
	for _, f := range Fields {
		names = append(names, f.Name)
	}
	return append(names, "lookup")
}
