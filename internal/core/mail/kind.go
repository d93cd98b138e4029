package mail

import (
	"slices"
	"strings"
)

// Kind is what a person calls a sort of file.
type Kind string

// The kinds, a closed table: see Kinds for what each holds.
const (
	PDF          Kind = "pdf"
	Document     Kind = "document"
	Spreadsheet  Kind = "spreadsheet"
	Presentation Kind = "presentation"
	Picture      Kind = "picture"
	Drawing      Kind = "drawing"
	Text         Kind = "text"
	Archive      Kind = "archive"
	Audio        Kind = "audio"
	Video        Kind = "video"
	MessageKind  Kind = "message"
	Calendar     Kind = "calendar"
	Report       Kind = "report"
	Contact      Kind = "contact"
	Program      Kind = "program"
	Other        Kind = "other"
)

// KindRow says which extensions and media types one kind has. A type that ends
// in a slash means the whole family.
type KindRow struct {
	Kind       Kind
	Plural     string
	Extensions []string
	Types      []string
}

// Kinds is the table, in the order in which people look for them.
var Kinds = []KindRow{
	{PDF, "PDFs", []string{"pdf"}, []string{"application/pdf", "application/x-pdf"}},
	{Document, "documents", []string{"doc", "docx", "docm", "dot", "dotx", "odt", "ott", "rtf", "pages"},
		[]string{"application/msword", "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
			"application/vnd.ms-word.document.macroenabled.12", "application/vnd.oasis.opendocument.text", "application/rtf",
			"text/rtf"}},
	{Spreadsheet, "spreadsheets", []string{"xls", "xlsx", "xlsm", "xlsb", "ods", "ots", "csv", "tsv", "numbers"},
		[]string{"application/vnd.ms-excel", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
			"application/vnd.ms-excel.sheet.macroenabled.12", "application/vnd.oasis.opendocument.spreadsheet", "text/csv",
			"text/tab-separated-values", "application/csv"}},
	{Presentation, "presentations", []string{"ppt", "pptx", "pptm", "pps", "ppsx", "odp", "key"},
		[]string{"application/vnd.ms-powerpoint", "application/vnd.openxmlformats-officedocument.presentationml.presentation",
			"application/vnd.oasis.opendocument.presentation"}},
	{Picture, "pictures",
		[]string{"jpg", "jpeg", "png", "gif", "webp", "tif", "tiff", "bmp", "heic", "heif", "avif", "svg"},
		[]string{"image/"}},
	{Drawing, "drawings", []string{"dwg", "dxf", "dwf", "odg", "vsd", "vsdx", "ai", "eps", "ps"},
		[]string{"image/vnd.dwg", "image/vnd.dxf", "application/acad", "application/dxf",
			"application/vnd.oasis.opendocument.graphics", "application/vnd.visio", "application/postscript"}},
	{Archive, "archives",
		[]string{"zip", "7z", "rar", "tar", "gz", "tgz", "tar.gz", "bz2", "tar.bz2", "xz", "tar.xz", "zst"},
		[]string{"application/zip", "application/x-zip-compressed", "application/x-7z-compressed", "application/vnd.rar",
			"application/x-rar-compressed", "application/x-tar", "application/gzip", "application/x-gzip", "application/x-bzip2",
			"application/x-xz", "application/zstd"}},
	{Audio, "sound files", []string{"mp3", "wav", "ogg", "oga", "flac", "m4a", "aac", "opus", "amr"}, []string{"audio/"}},
	{Video, "films", []string{"mp4", "m4v", "mov", "avi", "mkv", "webm", "mpg", "mpeg", "wmv"}, []string{"video/"}},
	{MessageKind, "messages", []string{"eml", "msg"}, []string{"message/", "application/vnd.ms-outlook"}},
	{Report, "delivery reports", nil,
		[]string{"message/delivery-status", "message/global-delivery-status", "message/disposition-notification",
			"message/global-disposition-notification", "message/feedback-report", "text/rfc822-headers",
			"message/global-headers"}},
	{Calendar, "calendar entries", []string{"ics", "vcs"}, []string{"text/calendar"}},
	{Contact, "contact cards", []string{"vcf"}, []string{"text/vcard", "text/x-vcard"}},
	{Program, "programs",
		[]string{"exe", "dll", "msi", "bat", "cmd", "com", "scr", "ps1", "vbs", "vbe", "js", "jse", "wsf", "hta", "jar",
			"apk", "app", "deb", "rpm", "sh", "pif", "cpl", "reg"},
		[]string{"application/x-msdownload", "application/x-msdos-program", "application/vnd.microsoft.portable-executable",
			"application/x-sh", "application/java-archive", "application/x-msi"}},
	{Text, "text files", []string{"txt", "text", "log", "md", "xml", "json", "yaml", "yml", "html", "htm", "ini", "conf"},
		[]string{"text/", "application/json", "application/xml"}},
	{Other, "other files", nil, nil},
}

// KindOf judges by extension first, since senders' programs get types wrong far
// more often than names, and by media type where the extension says nothing.
// ext may carry its dot.
func KindOf(mediaType, ext string) Kind {
	ext = strings.ToLower(strings.TrimPrefix(ext, "."))
	if ext != "" {
		for _, row := range Kinds {
			if slices.Contains(row.Extensions, ext) {
				return row.Kind
			}
		}
	}
	best, length := Other, 0
	for _, row := range Kinds {
		for _, t := range row.Types {
			if (t == mediaType || strings.HasSuffix(t, "/") && strings.HasPrefix(mediaType, t)) && len(t) > length {
				best, length = row.Kind, len(t)
			}
		}
	}
	return best
}

// extensionOf is the usual extension for a media type, with its dot, or "".
func extensionOf(mediaType string) string {
	switch mediaType {
	case "message/rfc822", "message/global":
		return ".eml"
	case "image/jpeg":
		return ".jpg"
	case "text/plain":
		return ".txt"
	case "text/html":
		return ".html"
	case "text/calendar":
		return ".ics"
	case "message/delivery-status", "message/disposition-notification", "message/feedback-report", "text/rfc822-headers":
		return ".txt"
	case "text/csv":
		return ".csv"
	case "image/svg+xml":
		return ".svg"
	case "application/vnd.openxmlformats-officedocument.wordprocessingml.document":
		return ".docx"
	case "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet":
		return ".xlsx"
	case "application/msword":
		return ".doc"
	case "application/vnd.ms-excel":
		return ".xls"
	case "application/gzip", "application/x-gzip":
		return ".gz"
	}
	family, sub, _ := strings.Cut(mediaType, "/")
	for _, row := range Kinds {
		if slices.Contains(row.Extensions, sub) &&
			(family == "image" || family == "audio" || family == "video" || slices.Contains(row.Types, mediaType)) {
			return "." + sub
		}
	}
	return ""
}
