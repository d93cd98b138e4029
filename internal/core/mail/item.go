package mail

import (
	"path"
	"strings"
)

// Item is one thing of a message that may be filed.
type Item struct {
	ID       string // the part's item number
	Name     string // as the sender named it, or made from the type; decoded, not yet safe
	Named    bool   // the sender gave a name
	Type     string // media type
	Kind     Kind
	Encoding string    // transfer encoding
	Encoded  int64     // octets as sent
	Size     int64     // octets once decoded, estimated from Encoded until the content was read
	Inline   bool      // shown within the text, as a signature's picture is
	Detached bool      // a detached signature (RFC 1847 section 2.1)
	Active   bool      // a name that a desktop acts upon when it is only looked at
	Forward  *Envelope // of the innermost forwarded message that holds it
}

// Stem and Ext part the name: "a.tar.gz" is "a" and ".tar.gz", "a.pdf" is "a" and ".pdf".
func (i *Item) Stem() string { return strings.TrimSuffix(i.Name, i.Ext()) }

// Ext is the extension with its dot, as written, or "".
func (i *Item) Ext() string { return Extension(i.Name) }

// Extension is the extension of a file name with its dot. A compressed tar
// keeps both of its extensions; what is too long to be one is none.
func Extension(name string) string {
	ext := path.Ext(name)
	if len(ext) < 2 || len(ext) > 12 || ext == name || strings.ContainsAny(ext, " \t") {
		return ""
	}
	rest := strings.TrimSuffix(name, ext)
	if inner := path.Ext(rest); strings.EqualFold(inner, ".tar") && inner != rest {
		return inner + ext
	}
	return ext
}

// isBody says whether a part is text that a person reads as the message.
func (p *Part) isBody() bool {
	return (p.Type == "text/plain" || p.Type == "text/html" || p.Type == "text/enriched") &&
		p.Disposition != "attachment" && p.Name == ""
}

// Items are the attachments of the message in the order in which they stand,
// those of forwarded messages included. A forwarded message is itself an item
// of kind Message, before its contents.
func (m *Message) Items() []Item {
	var found []Item
	var walk func(p *Part, forward *Envelope)
	walk = func(p *Part, forward *Envelope) {
		if p.Media() != "multipart" && !p.isBody() {
			found = append(found, p.item(forward))
		}
		if p.Envelope != nil {
			forward = p.Envelope
		}
		for i := range p.Children {
			walk(&p.Children[i], forward)
		}
	}
	walk(&m.Root, nil)
	return found
}

func (p *Part) item(forward *Envelope) Item {
	i := Item{ID: p.Item, Name: p.Name, Named: p.Name != "", Type: p.Type, Encoding: p.Encoding, Encoded: p.Size, Forward: forward}
	if i.Name == "" {
		i.Name = "attachment " + p.Item
		if p.Envelope != nil && p.Envelope.Subject != "" {
			i.Name = p.Envelope.Subject
		}
		i.Name = strings.ReplaceAll(i.Name, "/", "-") + extensionOf(p.Type)
	}
	i.Kind = KindOf(p.Type, i.Ext())
	i.Size = decodedSize(p.Encoding, p.Size)
	i.Inline = i.Kind == Picture && p.Disposition != "attachment" &&
		(p.Disposition == "inline" || p.related && p.ContentID != "")
	i.Inline = i.Inline || i.Kind == Picture && p.related && p.ContentID != ""
	lower := strings.ToLower(i.Name)
	i.Detached = p.signed || lower == "smime.p7s" || lower == "signature.asc" ||
		p.Type == "application/pgp-signature" || p.Type == "application/pkcs7-signature" || p.Type == "application/x-pkcs7-signature"
	i.Active = activeName(lower)
	return i
}

// activeName knows the names that a desktop or a web server acts upon by
// itself as soon as they lie in a folder.
func activeName(lower string) bool {
	switch lower {
	case "desktop.ini", "autorun.inf", "folder.jpg.lnk", ".htaccess", "web.config", ".directory", "thumbs.db":
		return true
	}
	switch path.Ext(lower) {
	case ".lnk", ".url", ".scf", ".library-ms", ".searchconnector-ms", ".website", ".desktop", ".webloc":
		return true
	}
	return false
}

// decodedSize estimates how many octets remain once the transfer encoding is off.
func decodedSize(encoding string, encoded int64) int64 {
	switch encoding {
	case "base64":
		return (encoded - encoded/78*2) / 4 * 3
	case "x-uuencode", "uuencode", "x-uue":
		return encoded / 63 * 45
	}
	return encoded
}
