package unpack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// maxTNEF bounds a winmail.dat, which is read whole.
const maxTNEF = 100_000_000

// The attributes of MS-OXTNEF section 2.1.3.2 that matter here.
const (
	attachData  = 0x6800F // attAttachData
	attachTitle = 0x18010 // attAttachTitle
	attachStart = 0x69002 // attAttachRenddata: a new attachment begins
	attachProps = 0x69005 // attAttachment: MAPI properties
	codepage    = 0x69007 // attOemCodepage
)

// The MAPI properties that matter (MS-OXPROPS).
const (
	propLongName = 0x3707 // PidTagAttachLongFilename
	propName     = 0x3704 // PidTagAttachFilename
	propDisplay  = 0x3001 // PidTagDisplayName
	propType     = 0x370E // PidTagAttachMimeTag
	propObject   = 0x3701 // PidTagAttachDataBinary, PidTagAttachDataObject
)

type tnefFile struct {
	title, long, short, display, mediaType string
	data                                   []byte
	nested                                 []byte // a TNEF stream of its own: an attached message
}

func (f *tnefFile) name() string {
	for _, n := range []string{f.long, f.title, f.short, f.display} {
		if n = strings.TrimSpace(n); n != "" {
			return n
		}
	}
	return ""
}

// tnef looks into a winmail.dat.
func (o *opener) tnef() error {
	if o.size > maxTNEF {
		return &Error{Problem: "a winmail.dat of more than 100 MB is not opened", Limit: true}
	}
	data, err := io.ReadAll(io.NewSectionReader(o.src, 0, o.size))
	if err != nil {
		return Passed(err)
	}
	return o.tnefStream(data, 0)
}

func (o *opener) tnefStream(data []byte, depth int) error {
	files, err := readTNEF(data)
	if err != nil {
		return broken("winmail.dat", err)
	}
	for i := range files {
		f := &files[i]
		if f.nested != nil {
			if depth >= 8 {
				return &Error{Problem: "messages are nested more than 8 deep in it", Limit: true}
			}
			if err := o.tnefStream(f.nested, depth+1); err != nil {
				return err
			}
			continue
		}
		number, err := o.next()
		if err != nil {
			return err
		}
		e := Entry{Number: number, Name: strings.ReplaceAll(strings.ReplaceAll(f.name(), "/", "-"), `\`, "-"),
			Type: strings.ToLower(f.mediaType), Size: int64(len(f.data))}
		if err := o.give(e, bytes.NewReader(f.data)); err != nil {
			return err
		}
	}
	return nil
}

var errShort = errors.New("it ends too early")

// readTNEF reads the attachments of a TNEF stream (MS-OXTNEF section 2.1).
func readTNEF(data []byte) ([]tnefFile, error) {
	if len(data) < 6 || binary.LittleEndian.Uint32(data) != 0x223E9F78 {
		return nil, errors.New("the signature is missing")
	}
	data = data[6:]
	var files []tnefFile
	page := charmap.Windows1252
	for len(data) > 0 {
		if len(data) < 9 {
			break // padding at the end
		}
		level, id, size := data[0], binary.LittleEndian.Uint32(data[1:]), int(binary.LittleEndian.Uint32(data[5:]))
		if level != 1 && level != 2 {
			return files, fmt.Errorf("a level of %d", level)
		}
		if size < 0 || size > len(data)-9 {
			return files, errShort
		}
		value := data[9 : 9+size]
		data = data[min(len(data), 9+size+2):] // the checksum follows
		if id&0xFFFFF == codepage && len(value) >= 4 {
			if p := windowsPages[binary.LittleEndian.Uint32(value)]; p != nil {
				page = p
			}
		}
		if id&0xFFFFF == attachStart {
			files = append(files, tnefFile{})
			if len(files) > 100_000 {
				return files, errors.New("there are too many attachments")
			}
		}
		if len(files) == 0 || level != 2 {
			continue
		}
		f := &files[len(files)-1]
		switch id & 0xFFFFF {
		case attachTitle:
			f.title = ansi(value, page)
		case attachData:
			f.data = value
		case attachProps:
			if err := f.properties(value, page); err != nil {
				return files, err
			}
		}
	}
	return files, nil
}

var windowsPages = map[uint32]*charmap.Charmap{
	437: charmap.CodePage437, 850: charmap.CodePage850, 852: charmap.CodePage852, 866: charmap.CodePage866,
	1250: charmap.Windows1250, 1251: charmap.Windows1251, 1252: charmap.Windows1252,
	1253: charmap.Windows1253, 1254: charmap.Windows1254, 1255: charmap.Windows1255, 1256: charmap.Windows1256,
	1257: charmap.Windows1257, 1258: charmap.Windows1258,
}

func ansi(value []byte, page *charmap.Charmap) string {
	value = bytes.TrimRight(value, "\x00")
	if i := bytes.IndexByte(value, 0); i >= 0 {
		value = value[:i]
	}
	if utf8.Valid(value) {
		return string(value)
	}
	s, err := page.NewDecoder().Bytes(value)
	if err != nil {
		return strings.ToValidUTF8(string(value), "\uFFFD")
	}
	return string(s)
}

func wide(value []byte) string {
	var units []uint16
	for i := 0; i+1 < len(value); i += 2 {
		u := binary.LittleEndian.Uint16(value[i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

// properties reads a list of MAPI properties (MS-OXTNEF section 2.1.3.4).
func (f *tnefFile) properties(data []byte, page *charmap.Charmap) error {
	take := func(n int) []byte {
		if n < 0 || n > len(data) {
			data = nil
			return nil
		}
		v := data[:n]
		data = data[n:]
		return v
	}
	number := func() (int, bool) {
		v := take(4)
		if v == nil {
			return 0, false
		}
		return int(binary.LittleEndian.Uint32(v)), true
	}
	count, ok := number()
	if !ok {
		return errShort
	}
	for range count {
		head := take(4)
		if head == nil {
			return nil // what was there has been read
		}
		kind, id := binary.LittleEndian.Uint16(head), binary.LittleEndian.Uint16(head[2:])
		if id >= 0x8000 { // a named property
			take(16)
			which, _ := number()
			if which == 0 {
				take(4)
			} else {
				n, _ := number()
				take((n + 3) &^ 3)
			}
		}
		many := kind&0x1000 != 0
		kind &^= 0x1000
		values := 1
		fixed := 0
		switch kind {
		case 0x0002, 0x000B: // 16 bits, boolean
			fixed = 4
		case 0x0003, 0x0004, 0x000A:
			fixed = 4
		case 0x0005, 0x0006, 0x0007, 0x0014, 0x0040:
			fixed = 8
		case 0x0048:
			fixed = 16
		case 0x000D, 0x001E, 0x001F, 0x0102:
			if values, ok = number(); !ok {
				return nil
			}
			many = true
		default:
			return nil // not known: what follows cannot be found
		}
		if many && fixed > 0 {
			if values, ok = number(); !ok {
				return nil
			}
		}
		for range values {
			if fixed > 0 {
				if take(fixed) == nil {
					return nil
				}
				continue
			}
			n, ok := number()
			if !ok {
				return nil
			}
			value := take(n)
			take((4 - n%4) % 4)
			if value == nil {
				return nil
			}
			text := ""
			switch kind {
			case 0x001E:
				text = ansi(value, page)
			case 0x001F:
				text = wide(value)
			}
			switch id {
			case propLongName:
				f.long = text
			case propName:
				f.short = text
			case propDisplay:
				f.display = text
			case propType:
				f.mediaType = text
			case propObject:
				// after the interface's identity
				if kind == 0x000D && len(value) > 20 && binary.LittleEndian.Uint32(value[16:]) == 0x223E9F78 {
					f.nested = value[16:]
				} else if f.data == nil && kind == 0x0102 {
					f.data = value
				}
			}
		}
	}
	return nil
}
