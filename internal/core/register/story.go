package register

import (
	"path"
	"slices"
	"strings"
	"time"
)

// Happening is something that happened to a filing.
type Happening struct {
	At   time.Time
	Text string // a sentence
	By   string // who did it; "" for the service itself
}

// Tell says what happened in a sentence. text is what the kind needs: a path, a
// number, a reason.
func Tell(kind, text string) string {
	switch kind {
	case "received":
		return "The message was received in " + text + "."
	case "drawn":
		return "The number " + text + " was drawn."
	case "filed":
		return "Filed as " + text + "."
	case "void":
		return "The number was not used: " + strings.TrimSuffix(text, ".") + "."
	case "taken back":
		return "The filing was taken back."
	case "replaced":
		return "The file of " + text + " took its place."
	case "put back":
		return "The file has its place again."
	case "missing":
		return "The file was not where it was filed."
	case "changed":
		return "The content of the file was not the same as when it was filed."
	case "found again":
		return "The file was there again, unchanged."
	case "verified":
		return "Verified: the file was there, unchanged."
	case "settled":
		if text == "" {
			return "A person accepted that it is missing or changed."
		}
		return "A person accepted that it is missing or changed: " + text + "."
	case "corrected":
		if text == "" { // it was erased
			return "A value was corrected."
		}
		return "A value was corrected: " + text + "."
	case "read again":
		return "Its values were read again."
	case "erased":
		return "Texts that name a person were erased."
	}
	return text
}

// Preview is how a file can be shown.
type Preview string

// The ways.
const (
	PreviewPDF     Preview = "pdf"
	PreviewPicture Preview = "picture"
	PreviewText    Preview = "text"
	PreviewTable   Preview = "table"
	PreviewNone    Preview = "none"
)

// mostPreview bounds what is shown whole, in octets; of texts and tables the
// beginning is shown.
const mostPreview = 50_000_000

// PreviewOf says how a file can be shown, by its name and its size in octets.
// What a browser would run is shown as text: web pages, drawings in SVG.
func PreviewOf(file string, size int64) Preview {
	ext := strings.ToLower(strings.TrimPrefix(path.Ext(file), "."))
	in := func(list ...string) bool { return slices.Contains(list, ext) }
	switch {
	case in("csv", "tsv", "tab"):
		return PreviewTable
	case in("txt", "text", "log", "md", "xml", "json", "yaml", "yml", "ini", "conf", "ics", "vcf", "html", "htm", "svg",
		"eml"):
		return PreviewText
	case size > mostPreview:
		return PreviewNone
	case in("pdf"):
		return PreviewPDF
	case in("png", "jpg", "jpeg", "gif", "webp", "bmp", "avif"):
		return PreviewPicture
	}
	return PreviewNone
}
