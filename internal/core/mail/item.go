package mail

import (
	"path"
	"slices"
	"strconv"
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

	// holds others, which are always looked at instead: a winmail.dat, opaque signed mail, an encoded forward
	Opens   bool
	Sealed  string // why nobody can look into it: it is encrypted, or broken; "" where that is not so
	Locked  bool   // it is encrypted
	Unsure  bool   // neither name nor type say what kind it is, and the first bytes were not read yet
	Parent  string // the item that holds it, "" where it is in the message itself
	Archive string // name of that item
	Folder  string // its folders within that item, "/" between levels
	Left    string // why it is never filed: it is a link within an archive; else ""
	Spoiled string // why nobody can read it: it is broken within its archive; else ""
	Remark  string // what is odd about it, for those who read the verdict; else ""
	Inside  *Read  // the text inside, nil before it was read
	Codes   *Codes // the bar codes and QR codes in it, nil before they were read
	Legible bool   // the text in pictures can be read here
}

// Coded says whether there may be bar codes or QR codes in it.
func (i *Item) Coded() bool {
	return i.Kind == PDF || i.Kind == Picture && (!i.Inline || i.Size >= smallPicture)
}

// Unseen says where nobody could look in what was read of it, and why.
func (i *Item) Unseen() string {
	var missing string
	if i.Inside != nil {
		missing = i.Inside.Missing()
	}
	if missing == "" && i.Codes != nil {
		missing = i.Codes.Missing()
	}
	return missing
}

// Readable says whether there may be text inside that can be read.
func (i *Item) Readable() bool {
	switch i.Kind {
	case PDF, Document, Spreadsheet, Presentation, Text:
		return true
	case Picture:
		return i.Legible && (!i.Inline || i.Size >= smallPicture)
	}
	return false
}

// smallPicture is how large an inline picture is, in octets, that may be of a page: smaller ones are signatures'.
const smallPicture = 20_000

// Macros says whether the name or the type tell that an office file holds macros.
func (i *Item) Macros() bool {
	switch strings.ToLower(path.Ext(i.Name)) {
	case ".docm", ".dotm", ".xlsm", ".xltm", ".xlam", ".xlsb", ".pptm", ".potm", ".ppam", ".ppsm", ".sldm":
		return true
	}
	return strings.Contains(i.Type, "macroenabled")
}

// Find gives an item by its number, also one that was found in another. It makes no other item: a message may have
// ten thousand of them.
func (m *Message) Find(id string) (found Item, ok bool) {
	top, rest, within := strings.Cut(id, "!")
	var walk func(p *Part, forward *Envelope) bool
	walk = func(p *Part, forward *Envelope) bool {
		if p.Item == top && p.Media() != "multipart" && !p.isBody() {
			found = p.item(forward)
			m.known(&found)
			return true
		}
		if p.Envelope != nil {
			forward = p.Envelope
		}
		for i := range p.Children {
			if walk(&p.Children[i], forward) {
				return true
			}
		}
		return false
	}
	if !walk(&m.Root, nil) {
		return Item{}, false
	}
	for ok = true; ok && within; {
		var number string
		number, rest, within = strings.Cut(rest, "!")
		found, ok = m.entry(&found, number)
	}
	return found, ok
}

// entry gives the entry of a number in an item that was opened.
func (m *Message) entry(of *Item, number string) (Item, bool) {
	o := m.Inside[of.ID]
	if o == nil || o.Problem != "" {
		return Item{}, false
	}
	id := of.ID + "!" + number
	at := -1
	// as they mostly stand
	if n, err := strconv.Atoi(number); err == nil && n > 0 && n <= len(o.Items) && o.Items[n-1].ID == id {
		at = n - 1
	} else if at = slices.IndexFunc(o.Items, func(i Item) bool { return i.ID == id }); at < 0 {
		return Item{}, false
	}
	found := o.Items[at]
	if found.Forward == nil {
		found.Forward = of.Forward
	}
	m.known(&found)
	return found, true
}

// known gives an item what its first bytes showed, and why it could not be opened.
func (m *Message) known(i *Item) {
	m.sniffed(i)
	if o := m.Inside[i.ID]; i.Opens && o != nil && o.Problem != "" {
		i.Sealed, i.Locked = o.Problem, o.Locked
	}
}

// Top is the item of the message itself that holds this one, or this one.
func (i *Item) Top() string {
	top, _, _ := strings.Cut(i.ID, "!")
	return top
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
			i := p.item(forward)
			m.sniffed(&i)
			found = append(found, i)
			if i.Opens {
				found = m.inside(found, len(found)-1)
			}
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

// Known gives the items inside of an item, as far as it was opened. Each archive among them is followed by its own
// items.
func (m *Message) Known(item *Item) []Item {
	return m.inside([]Item{*item}, 0)[1:]
}

// inside appends what the item at index at holds and notes why it cannot be
// opened.
func (m *Message) inside(found []Item, at int) []Item {
	o := m.Inside[found[at].ID]
	if o == nil {
		return found
	}
	if o.Problem != "" {
		found[at].Sealed, found[at].Locked = o.Problem, o.Locked
		return found
	}
	for _, i := range o.Items {
		m.sniffed(&i)
		if i.Forward == nil {
			i.Forward = found[at].Forward
		}
		found = append(found, i)
		if i.Opens {
			found = m.inside(found, len(found)-1)
		}
	}
	return found
}

// sniffed gives an item the kind that its first bytes show.
func (m *Message) sniffed(i *Item) {
	i.Inside, i.Codes, i.Legible = m.Texts[i.ID], m.Codes[i.ID], m.Pictures
	if found, ok := m.Kinds[i.ID]; ok && i.Unsure {
		i.Unsure, i.Kind = false, found.Kind
		if found.Kind != Other {
			i.Name += found.Ext
		}
	}
}

// Inner makes an item of something that was found in another.
func Inner(parent *Item, number, name, mediaType string, size int64) Item {
	i := Item{ID: parent.ID + "!" + number, Type: mediaType, Size: size, Parent: parent.ID, Archive: parent.Name}
	if n := strings.LastIndexByte(name, '/'); n >= 0 {
		i.Folder, name = name[:n], name[n+1:]
	}
	i.Name, i.Named = name, name != ""
	if !i.Named {
		i.Name = "attachment " + number + extensionOf(mediaType)
	}
	i.judge()
	return i
}

// judge sets what name and type tell of an item.
func (i *Item) judge() {
	i.Kind = KindOf(i.Type, i.Ext())
	i.Unsure = i.Kind == Other && i.Ext() == ""
	lower := strings.ToLower(i.Name)
	i.Active = activeName(lower) || strings.HasPrefix(strings.ToLower(i.Folder)+"/", "__macosx/")
	i.Opens = i.Type == "application/ms-tnef" || i.Type == "application/vnd.ms-tnef" || lower == "winmail.dat"
	if i.Opens {
		i.Unsure = false
	}
}

func (p *Part) item(forward *Envelope) Item {
	i := Item{ID: p.Item, Name: p.Name, Named: p.Name != "", Type: p.Type, Encoding: p.Encoding, Encoded: p.Size,
		Forward: forward}
	if i.Name == "" {
		i.Name = "attachment " + p.Item
		if p.Envelope != nil && p.Envelope.Subject != "" {
			i.Name = p.Envelope.Subject
		}
		i.Name = strings.ReplaceAll(i.Name, "/", "-") + extensionOf(p.Type)
	}
	i.judge()
	if p.Forwarded() && Wrapped(p.Encoding) {
		i.Unsure, i.Opens = false, true
	}
	if p.pkcs7() {
		i.Unsure, i.Opens = false, p.mayOpen()
		if !i.Opens {
			i.Sealed, i.Locked = "it is encrypted (S/MIME), so Ink Tray cannot read it", true
		}
	}
	if p.sealed {
		i.Unsure = false
		if p.Type != "application/pgp-encrypted" { // that part only tells the version (RFC 3156 section 4)
			i.Sealed, i.Locked = "it is encrypted (OpenPGP), so Ink Tray cannot read it", true
		}
	}
	if p.report {
		i.Kind, i.Unsure = Report, false
	}
	i.Size = decodedSize(p.Encoding, p.Size)
	// Without a Content-ID nothing in the message can show it (RFC 2392), whatever its disposition says.
	i.Inline = i.Kind == Picture && p.ContentID != "" && (p.related || p.Disposition == "inline")
	lower := strings.ToLower(i.Name)
	i.Detached = p.signed || p.sealed && i.Sealed == "" || lower == "smime.p7s" || lower == "signature.asc" ||
		p.Type == "application/pgp-signature" || p.Type == "application/pkcs7-signature" ||
		p.Type == "application/x-pkcs7-signature"
	return i
}

// activeName knows the names that a desktop or a web server acts upon by
// itself as soon as they lie in a folder.
func activeName(lower string) bool {
	switch lower {
	case "desktop.ini", "autorun.inf", "folder.jpg.lnk", ".htaccess", "web.config", ".directory", "thumbs.db", ".ds_store":
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
