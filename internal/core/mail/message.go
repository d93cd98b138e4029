// Package mail understands messages: envelope, addresses, dates, the tree of
// parts and which of them are attachments. It reads what a body structure or
// the raw bytes say, by the same rules, and never touches a network, a disk or
// a clock. Everything it is given is taken to be hostile.
package mail

import (
	"cmp"
	"crypto/sha256"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/invoice"
)

// Limits on hostile structure. Beyond them a message is read as far as they go
// and Message.Truncated says so.
const (
	MaxDepth = 100    // nesting of multiparts and forwarded messages
	MaxParts = 10_000 // parts in all
)

// Address is one mailbox of an address list (RFC 5322 section 3.4).
type Address struct {
	Name   string // display name, decoded; never to be trusted
	Local  string // before the @, as written
	Domain string // after the @, lower case, IDNA left as sent
}

// String is the bare address, "local@domain", or "" where there is none.
func (a Address) String() string {
	if a.Domain == "" {
		return a.Local
	}
	return a.Local + "@" + a.Domain
}

// Detail is the subaddress after a plus sign (RFC 5233), or "".
func (a Address) Detail() string {
	_, detail, _ := strings.Cut(a.Local, "+")
	return detail
}

// Label is what a person calls the address: its name, else the address.
func (a Address) Label() string {
	if a.Name != "" {
		return a.Name
	}
	return a.String()
}

// Envelope holds the decoded header fields that rules and people look at
// (RFC 5322 section 3.6). A field that is absent or unreadable is its zero value.
type Envelope struct {
	Date                  time.Time
	Subject               string
	From, ReplyTo, To, Cc []Address
	DeliveredTo           []Address // Delivered-To, X-Original-To
	MessageID             string    // without angle brackets
}

// Sender is the first author, the zero Address where there is none.
func (e Envelope) Sender() Address {
	if len(e.From) == 0 {
		return Address{}
	}
	return e.From[0]
}

// Recipients are To and Cc together.
func (e Envelope) Recipients() []Address { return slices.Concat(e.To, e.Cc) }

// Message is one message as far as it has been read.
type Message struct {
	Envelope  Envelope
	Received  time.Time // when it was received; zero where nobody knows. See SetReceived
	Origin    Origin    // from where Received is known
	Size      int64     // octets of the whole message
	Flags     []string  // IMAP flags and keywords, as the server wrote them
	Folder    string    // path of the mail folder, "/" between levels
	Header    Header    // the fields that were fetched, raw
	Root      Part
	Truncated bool    // the structure went past MaxDepth or MaxParts
	Broken    string  // why its parts cannot be told apart, "" where they can
	Text      *string // text of the body once fetched, nil before
	TextError string  // why the text cannot be read, "" where it can
	AllHeader Header  // every field, once fetched; nil before
	Alike     bool    // it is recognised by its likeness: its server tells other sizes of parts than others do
	// Inside says what was found in items that hold others, by item; Kinds what
	// the first bytes of items show whose name and type say nothing.
	Inside map[string]*Opened
	Kinds  map[string]Sniffed
	Texts  map[string]*Read  // what is inside of items, by item
	Codes  map[string]*Codes // the codes in items, by item
	Proof  *Proof            // whether it is proven who sent it; nil before that was looked into
	// Pictures says that the text in pictures can be read here, as whoever plans knows.
	Pictures bool
}

// Proof says whether a message comes from the domain of its author.
type Proof struct {
	Proven  bool
	Unknown bool   // it cannot be found out now
	Text    string // by what, or why not
}

// Read is the text inside of an item.
type Read struct {
	Text    string
	Invoice *invoice.Invoice // where it is an electronic invoice, or holds one
	Unread  string           // why the electronic invoice in it cannot be read; "" where it was, or there is none
	Problem string           // why the text cannot be read, "" where it was
	Locked  bool             // because it needs a password
	Empty   bool             // because there is no text in it: it was read all the same
	// Scanned is how many of its pages are pictures, whose text was read with a certainty of Sure of 100; Left is how
	// many more nobody read.
	Scanned, Sure, Left int
	LeftFor             string // why, where it is not for the limit
	folded              *string
}

// How says how the text was read, where that was from pictures of pages; else "".
func (r *Read) How() string {
	if r == nil || r.Sure == 0 {
		return ""
	}
	return "read from a scan, " + strconv.Itoa(r.Sure) + " % sure"
}

// Missing says what of the file nobody has read, and why; "" where it was read.
func (r *Read) Missing() string {
	switch {
	case r.Problem != "" || r.Unread != "":
		return cmp.Or(r.Problem, r.Unread)
	case r.Left == 0:
		return ""
	}
	said := "one scanned page of it was not read"
	if r.Left > 1 {
		said = strconv.Itoa(r.Left) + " scanned pages of it were not read"
	}
	if r.LeftFor != "" {
		return said + ": " + r.LeftFor
	}
	return said + ", because of the limit in Settings"
}

// Codes are the bar codes and QR codes in an item.
type Codes struct {
	Text    string // what they hold, each on a line of its own
	Problem string // why they cannot be read, "" where they were
	Left    int    // pages that nobody looked at
}

// Missing says what of the file nobody has looked at for codes, and why; "" where somebody has.
func (c *Codes) Missing() string {
	switch {
	case c.Problem != "":
		return c.Problem
	case c.Left == 1:
		return "one page of it was not searched for codes, because of the limit in Settings"
	case c.Left > 1:
		return strconv.Itoa(c.Left) + " pages of it were not searched for codes, because of the limit in Settings"
	}
	return ""
}

// Folded is the text made comparable, which is done once.
func (r *Read) Folded(fold func(string) string) string {
	if r.folded == nil {
		f := fold(r.Text)
		r.folded = &f
	}
	return *r.folded
}

// Sniffed is what the first bytes of an item show.
type Sniffed struct {
	Kind Kind
	Ext  string // the usual extension, with its dot
}

// Opened is what was found in an item that holds others: a winmail.dat, opaque
// signed mail, an archive.
type Opened struct {
	Items   []Item
	Text    string    // of signed mail: what a person reads
	Problem string    // why it cannot be opened, "" where it was
	Forward *Envelope // of a message that was opened
	Locked  bool      // because it needs a password
	Empty   bool      // because there is no text in it: it was read all the same
}

// Part is one MIME entity of the message (RFC 2045, RFC 2046).
type Part struct {
	Item        string // our numbering: "2", "1.3", "2/1.3" inside a forwarded message
	Type        string // media type in lower case, "application/pdf"
	Charset     string
	Name        string // decoded file name, "" where none was given
	Disposition string // "attachment", "inline" or ""
	ContentID   string
	Encoding    string // transfer encoding in lower case
	Size        int64  // octets as sent, that is still encoded
	Children    []Part
	Envelope    *Envelope // of a forwarded message
	SMIME       string    // smime-type of application/pkcs7-mime (RFC 8551 section 3.2.2)
	signed      bool      // second part of multipart/signed
	related     bool      // is in a multipart/related and is not its root
	sealed      bool      // is in a multipart/encrypted (RFC 1847 section 2.2)
	report      bool      // a machine's part of a multipart/report (RFC 6522)
}

// Section is the IMAP section of the part's content (RFC 9051 section 6.4.5).
func (p *Part) Section() string { return strings.ReplaceAll(p.Item, "/", ".") }

// Media is the type before the slash.
func (p *Part) Media() string { m, _, _ := strings.Cut(p.Type, "/"); return m }

// New makes a message from header fields and a structure. The header may be
// the whole header or only the fields named by HeaderFields.
func New(header Header, structure *Structure) *Message {
	m := &Message{Header: header, Envelope: header.Envelope()}
	b := builder{m: m}
	if structure == nil {
		structure = &Structure{Type: "text", Subtype: "plain"}
	}
	m.Root = b.body(structure, "", 0)
	m.Broken, m.Alike = structure.Broken, structure.Alike
	if m.Truncated && m.Broken == "" {
		m.Broken = fmt.Sprintf("it has more than %d parts, or parts more than %d deep", MaxParts, MaxDepth)
	}
	return m
}

// Origin says from where the time of receipt of a message is known.
type Origin string

// The origins, the most reliable first.
const (
	ByServer Origin = "server"         // the mail server recorded it (INTERNALDATE)
	ByField  Origin = "received field" // the topmost Received field that can be read (RFC 5321 section 4.4)
	ByFile   Origin = "file"           // the time of the message's file, or of the line that parts it from others
	ByDate   Origin = "date field"     // the Date field, which the sender wrote
	Unknown  Origin = "unknown"
)

// SetReceived fills Received and Origin, by the same rule for every source: what
// the mail server recorded, else the topmost Received field, else stored, the time
// of the message's file, else the Date field. A field that names a moment before
// 1980 or after tomorrow is passed over. Received stays zero where nothing is known.
func (m *Message) SetReceived(stored, now time.Time) {
	if m.Origin != "" {
		if m.Origin == Unknown {
			m.Received = time.Time{}
		}
		return
	}
	if !m.Received.IsZero() {
		m.Origin = ByServer
		return
	}
	plausible := func(t time.Time) bool { return t.Year() >= 1980 && t.Before(now.Add(24*time.Hour)) }
	for _, v := range m.Header.All("Received") {
		if t, ok := ParseDate(v[strings.LastIndexByte(v, ';')+1:]); ok && plausible(t) {
			m.Received, m.Origin = t, ByField
			return
		}
	}
	switch {
	case plausible(stored):
		m.Received, m.Origin = stored, ByFile
	case plausible(m.Envelope.Date):
		m.Received, m.Origin = m.Envelope.Date, ByDate
	default:
		m.Origin = Unknown
	}
}

type builder struct {
	m     *Message
	count int
}

// body builds the outermost entity of a message. A multipart there has no number
// of its own: its parts continue the prefix.
func (b *builder) body(s *Structure, prefix string, depth int) Part {
	if strings.EqualFold(s.Type, "multipart") {
		return b.part(s, strings.TrimSuffix(prefix, "/"), prefix, depth)
	}
	return b.part(s, prefix+"1", "", depth)
}

// part builds one entity; the parts of a multipart are numbered from prefix on.
func (b *builder) part(s *Structure, item, prefix string, depth int) Part {
	b.count++
	if s.Type == "" || s.Subtype == "" { // a type that is none (RFC 2045 section 5.2)
		plain := *s
		plain.Type, plain.Subtype = "text", "plain"
		s = &plain
	}
	p := Part{
		Item:        item,
		Type:        strings.ToLower(s.Type + "/" + s.Subtype),
		Charset:     strings.ToLower(decodeParam(s.Params, "charset")),
		Disposition: strings.ToLower(s.Disposition),
		ContentID:   strings.Trim(s.ID, "<> \t"),
		Encoding:    strings.ToLower(strings.TrimSpace(s.Encoding)),
		Size:        s.Size,
		SMIME:       strings.ToLower(decodeParam(s.Params, "smime-type")),
		Name:        baseName(firstNonEmpty(decodeParam(s.DispositionParams, "filename"), decodeParam(s.Params, "name"))),
	}
	if len(s.Children) > 0 && depth >= MaxDepth {
		b.m.Truncated = true
		return p
	}
	if p.Media() != "multipart" {
		if p.Forwarded() && Wrapped(p.Encoding) {
			return p // what a server makes of the encoded text is not the message
		}
		if len(s.Children) == 1 { // message/rfc822, message/global
			if s.Header != nil {
				e := s.Header.Envelope()
				p.Envelope = &e
			}
			p.Children = []Part{b.body(&s.Children[0], item+"/", depth+1)}
		}
		return p
	}
	for i := range s.Children {
		if b.count >= MaxParts {
			b.m.Truncated = true
			break
		}
		id := prefix + strconv.Itoa(i+1)
		c := b.part(&s.Children[i], id, id+".", depth+1)
		c.signed = p.Type == "multipart/signed" && i == 1
		c.related = p.Type == "multipart/related" && i > 0
		c.sealed = p.Type == "multipart/encrypted"
		c.report = p.Type == "multipart/report" && i > 0
		p.Children = append(p.Children, c)
	}
	return p
}

// pkcs7 says whether the part is S/MIME content that is no detached signature.
func (p *Part) pkcs7() bool {
	return p.Type == "application/pkcs7-mime" || p.Type == "application/x-pkcs7-mime"
}

// mayOpen says whether S/MIME content is signed and not encrypted, as far as
// its type tells (RFC 8551 section 3.2.2).
func (p *Part) mayOpen() bool {
	return p.SMIME == "signed-data" || p.SMIME == "" && !strings.HasSuffix(strings.ToLower(p.Name), ".p7c")
}

// Forwarded says whether the part is a message.
func (p *Part) Forwarded() bool { return p.Type == "message/rfc822" || p.Type == "message/global" }

// Walk calls f for every part, outer parts first, until f returns false.
func (m *Message) Walk(f func(p *Part) bool) {
	var walk func(p *Part) bool
	walk = func(p *Part) bool {
		if !f(p) {
			return false
		}
		for i := range p.Children {
			if !walk(&p.Children[i]) {
				return false
			}
		}
		return true
	}
	walk(&m.Root)
}

// PartOf finds a part by its item number, nil where there is none.
func (m *Message) PartOf(item string) *Part {
	var found *Part
	m.Walk(func(p *Part) bool {
		if p.Item == item && p.Media() != "multipart" {
			found = p
		}
		return found == nil
	})
	return found
}

// TextParts are the parts that make up the body a person reads, in order. Of
// alternatives only the plainest is named.
func (m *Message) TextParts() []*Part {
	var found []*Part
	var walk func(p *Part)
	walk = func(p *Part) {
		switch {
		case p.Type == "multipart/alternative":
			var best *Part
			for i := range p.Children {
				c := &p.Children[i]
				if c.isBody() && (best == nil || c.Type == "text/plain") {
					best = c
				}
			}
			if best != nil {
				found = append(found, best)
				return
			}
			fallthrough
		case p.Media() == "multipart":
			for i := range p.Children {
				walk(&p.Children[i])
			}
		case p.isBody():
			found = append(found, p)
		}
	}
	walk(&m.Root)
	return found
}

// Encrypted says whether the message's content cannot be read without a key
// (RFC 1847 section 2.2, RFC 8551 section 3.3).
func (m *Message) Encrypted() bool {
	encrypted := false
	m.Walk(func(p *Part) bool {
		encrypted = encrypted || p.Type == "multipart/encrypted" || p.pkcs7() && !p.mayOpen() ||
			p.pkcs7() && m.Inside[p.Item] != nil && m.Inside[p.Item].Problem != ""
		return !encrypted
	})
	return encrypted
}

// HasFlag says whether the message carries the flag or keyword, in any case.
func (m *Message) HasFlag(flag string) bool {
	return slices.ContainsFunc(m.Flags, func(f string) bool { return strings.EqualFold(f, flag) })
}

// Fingerprint recognises the same message elsewhere: SHA-256 of the raw
// Message-ID, Date, From and Subject and of the structure with its sizes. A
// sender can forge it, so it raises a suspicion and proves nothing. Of a message
// that came with other sizes it is the likeness.
func (m *Message) Fingerprint() [32]byte {
	if m.Alike {
		return m.Likeness()
	}
	return m.print(nil, true)
}

// Likeness recognises the same message where a server tells other sizes of it: JMAP gives those of the decoded
// contents, IMAP those of the encoded ones. It is the fingerprint without the sizes; these count only where the
// message has no Message-ID.
func (m *Message) Likeness() [32]byte {
	return m.print([]byte("likeness"), m.Header.MessageID() == "")
}

func (m *Message) print(begin []byte, sizes bool) [32]byte {
	h := sha256.New()
	h.Write(begin)
	put := func(s string) {
		var n [4]byte
		binary.BigEndian.PutUint32(n[:], uint32(len(s)))
		h.Write(n[:])
		h.Write([]byte(s))
	}
	for _, name := range []string{"Message-ID", "Date", "From", "Subject"} {
		put(strings.TrimSpace(unfold(m.Header.Get(name))))
	}
	m.Walk(func(p *Part) bool {
		put(p.Item)
		put(p.Type)
		if sizes && len(p.Children) == 0 {
			var n [8]byte
			binary.BigEndian.PutUint64(n[:], uint64(p.Size))
			h.Write(n[:])
		}
		return true
	})
	return [32]byte(h.Sum(nil))
}

// Key is a short form of the fingerprint for use in names: 12 characters of
// base32 (RFC 4648 section 6), in lower case.
func (m *Message) Key() string {
	f := m.Fingerprint()
	return strings.ToLower(base32.StdEncoding.EncodeToString(f[:]))[:12]
}

func firstNonEmpty(s ...string) string {
	for _, v := range s {
		if v != "" {
			return v
		}
	}
	return ""
}

// baseName drops the folders that some senders put before a file name. What
// remains may still be unsafe as a name: package safename sees to that.
func baseName(name string) string {
	name = strings.TrimSpace(name)
	if i := strings.LastIndexAny(name, `/\`); i >= 0 && i < len(name)-1 {
		return name[i+1:]
	}
	return name
}

// Field gives a header field's decoded values, topmost first. known is false
// where the field is none of HeaderFields and the whole header was not read.
func (m *Message) Field(name string) (values []string, known bool) {
	h := m.AllHeader
	if h == nil {
		if !slices.ContainsFunc(HeaderFields, func(f string) bool { return strings.EqualFold(f, name) }) {
			return nil, false
		}
		h = m.Header
	}
	for _, v := range h.All(name) {
		values = append(values, strings.TrimSpace(DecodeText(unfold(v))))
	}
	return values, true
}
