package mail

import (
	"bytes"
	"strings"

	"github.com/gabriel-vasile/mimetype"
)

// FirstBytes is how much of a content ContentKind and Disagrees look at, in octets.
const FirstBytes = 3072

// ContentKind says what the first bytes of a content are: its kind, the usual
// extension with its dot, and what a person calls it. Other where they say nothing.
func ContentKind(first []byte) (kind Kind, ext, what string) {
	found := mimetype.Detect(first)
	media, _, _ := strings.Cut(found.String(), ";")
	switch {
	case len(first) == 0 || media == "application/octet-stream":
		return Other, "", "of no known form"
	case strings.HasPrefix(string(first), "MZ") && len(first) > 64 ||
		media == "application/vnd.microsoft.portable-executable":
		return Program, ".exe", "a Windows program"
	case found.Is("application/x-elf"):
		return Program, "", "a Linux program"
	case media == "application/x-mach-binary":
		return Program, "", "a macOS program"
	case media == "application/x-java-applet" || media == "application/java-archive":
		return Program, ".jar", "a Java program"
	case bytes.HasPrefix(first, []byte("#!")):
		return Program, ".sh", "a script"
	}
	kind = KindOf(media, found.Extension())
	return kind, found.Extension(), wording(kind, media)
}

func wording(kind Kind, media string) string {
	switch {
	case media == "text/html":
		return "a web page"
	case media == "text/plain":
		return "plain text"
	case kind == PDF:
		return "a PDF"
	case kind == Archive:
		return "an archive"
	case kind == Audio || kind == Video || kind == Picture || kind == Document || kind == Spreadsheet ||
		kind == Presentation || kind == Drawing:
		return "a " + strings.TrimSuffix(string(kind), "s")
	}
	return "of the type " + media
}

// Disagrees compares the kind that an item's name and type tell with its first
// bytes. what says what the content is where the two disagree, else it is "";
// hold says that the item must not be filed unseen: it is a program that does
// not say so, or it is no PDF and no picture though its name says it is one.
func Disagrees(item *Item, first []byte) (what string, hold bool) {
	kind, _, what := ContentKind(first)
	switch {
	case len(first) == 0:
		return "empty", false
	case kind == item.Kind || kind == Other:
		return "", false
	case kind == Program:
		return what, what != "a script" || item.Kind != Text && item.Kind != Other
	case item.Kind == Other || item.Kind == Report:
		return "", false
	case item.Kind == Program:
		return "", false // it is named as what one must take care with
	case item.Kind == PDF:
		if bytes.Contains(first[:min(len(first), 1024)], []byte("%PDF")) { // readers look that far
			return "", false
		}
		return what, true
	case item.Kind == Picture:
		if strings.EqualFold(item.Ext(), ".svg") && kind == Text {
			return "", false
		}
		return what, true
	case neutral(item.Kind, kind, what):
		return "", false
	}
	return what, false
}

// neutral says whether a content is one in which files of that kind come.
func neutral(named, found Kind, what string) bool {
	switch named {
	case Document, Spreadsheet, Presentation, Drawing, Archive:
		// Office files are archives or old compound files; tables are plain text;
		// the first bytes of a large one do not tell which.
		office := found == Document || found == Spreadsheet || found == Presentation || found == Drawing
		return found == Archive && named != Drawing || office && named == Archive || found == Text && what == "plain text" &&
			named != Archive ||
			what == "of the type application/x-ole-storage" || named == Drawing
	case Audio, Video:
		return found == Audio || found == Video
	case Text, Calendar, Contact, MessageKind:
		return found == Text || found == Spreadsheet || what == "of the type application/x-ole-storage" ||
			found == Calendar || found == Contact || found == MessageKind || what == "a picture" && named == Text
	}
	return false
}
