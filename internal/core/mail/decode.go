package mail

import (
	"bufio"
	"bytes"
	"io"
)

// Decode takes the transfer encoding off (RFC 2045 section 6), and nothing
// else: bytes come out as the sender had them. It is lenient: noise in base64
// is passed over, missing padding is no loss, a bad escape stays as it is.
// An encoding that is not known is passed through.
func Decode(encoding string, r io.Reader) io.Reader {
	switch encoding {
	case "base64":
		return &base64Reader{r: r, buf: make([]byte, 16<<10)}
	case "quoted-printable":
		return &lineReader{r: bufio.NewReaderSize(r, 16<<10), decode: quotedPrintable}
	case "x-uuencode", "uuencode", "x-uue":
		u := &uudecoder{}
		return &lineReader{r: bufio.NewReaderSize(r, 16<<10), decode: u.line}
	}
	return r
}

// base64Values maps a byte to its six bits, 64 for padding and 255 for noise.
var base64Values = func() (t [256]byte) {
	for i := range t {
		t[i] = 255
	}
	for i, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/") {
		t[c] = byte(i)
	}
	t['='] = 64
	return t
}()

type base64Reader struct {
	r    io.Reader
	buf  []byte
	out  []byte // decoded, not yet read
	hold uint32 // bits of an unfinished group
	bits int
	err  error
	mem  []byte
}

func (d *base64Reader) Read(p []byte) (int, error) {
	for len(d.out) == 0 {
		if d.err != nil {
			return 0, d.err
		}
		n, err := d.r.Read(d.buf)
		d.err = err
		d.decode(d.buf[:n])
	}
	n := copy(p, d.out)
	d.out = d.out[n:]
	return n, nil
}

func (d *base64Reader) decode(in []byte) {
	if d.mem == nil {
		d.mem = make([]byte, 0, len(d.buf))
	}
	out := d.mem[:0]
	i := 0
	for i < len(in) {
		if d.bits == 0 { // the fast way: whole groups without noise
			for i+4 <= len(in) {
				a, b, c, e := base64Values[in[i]], base64Values[in[i+1]], base64Values[in[i+2]], base64Values[in[i+3]]
				if a|b|c|e >= 64 {
					break
				}
				v := uint32(a)<<18 | uint32(b)<<12 | uint32(c)<<6 | uint32(e)
				out = append(out, byte(v>>16), byte(v>>8), byte(v))
				i += 4
			}
			if i >= len(in) {
				break
			}
		}
		v := base64Values[in[i]]
		i++
		switch {
		case v < 64:
			d.hold = d.hold<<6 | uint32(v)
			d.bits += 6
			if d.bits == 24 {
				out = append(out, byte(d.hold>>16), byte(d.hold>>8), byte(d.hold))
				d.hold, d.bits = 0, 0
			}
		case v == 64:
			out = d.flush(out) // padding ends a group; joined streams go on after it
		}
	}
	if d.err == io.EOF {
		out = d.flush(out)
	}
	d.out = out
}

// flush gives the whole bytes of an unfinished group.
func (d *base64Reader) flush(out []byte) []byte {
	switch d.bits {
	case 12:
		out = append(out, byte(d.hold>>4))
	case 18:
		out = append(out, byte(d.hold>>10), byte(d.hold>>2))
	}
	d.hold, d.bits = 0, 0
	return out
}

// lineReader decodes an encoding that goes by lines.
type lineReader struct {
	r      *bufio.Reader
	decode func(out, line []byte, whole bool) []byte
	out    []byte
	mem    []byte
	carry  []byte // an escape that a piece of an overlong line was cut in
	err    error
}

func (d *lineReader) Read(p []byte) (int, error) {
	for len(d.out) == 0 {
		if d.err != nil {
			return 0, d.err
		}
		line, err := d.r.ReadSlice('\n')
		whole := err != bufio.ErrBufferFull
		if err != nil && whole {
			d.err = err
		}
		if len(d.carry) > 0 {
			line = append(d.carry, line...)
			d.carry = nil
		}
		if n := len(line); !whole {
			if i := bytes.LastIndexByte(line[max(0, n-2):], '='); i >= 0 {
				cut := max(0, n-2) + i
				d.carry = bytes.Clone(line[cut:])
				line = line[:cut]
			}
		}
		d.mem = d.decode(d.mem[:0], line, whole)
		d.out = d.mem
	}
	n := copy(p, d.out)
	d.out = d.out[n:]
	return n, nil
}

// quotedPrintable decodes one line (RFC 2045 section 6.7). A line longer than
// the buffer comes in pieces, whole being false for all but the last.
func quotedPrintable(out, line []byte, whole bool) []byte {
	end := []byte(nil)
	text := line
	if whole {
		text = bytes.TrimRight(line, "\r\n")
		end = line[len(text):]
		text = bytes.TrimRight(text, " \t")
		if n := len(text); n > 0 && text[n-1] == '=' {
			text, end = text[:n-1], nil
		}
	}
	for i := 0; i < len(text); i++ {
		if text[i] == '=' && i+2 < len(text) && ishex(text[i+1]) && ishex(text[i+2]) {
			out = append(out, unhex(text[i+1])<<4|unhex(text[i+2]))
			i += 2
			continue
		}
		out = append(out, text[i])
	}
	return append(out, end...)
}

type uudecoder struct{ begun, ended bool }

func (u *uudecoder) line(out, line []byte, _ bool) []byte {
	line = bytes.TrimRight(line, "\r\n")
	if !u.begun {
		u.begun = bytes.HasPrefix(line, []byte("begin "))
		return out
	}
	if u.ended || len(line) == 0 || string(line) == "end" {
		u.ended = u.ended || string(line) == "end"
		return out
	}
	count := int(line[0]-' ') & 63
	at := func(i int) byte {
		if i < len(line) {
			return (line[i] - ' ') & 63
		}
		return 0
	}
	for i := 1; count > 0; i += 4 {
		a, b, c, d := at(i), at(i+1), at(i+2), at(i+3)
		group := [3]byte{a<<2 | b>>4, b<<4 | c>>2, c<<6 | d}
		n := min(count, 3)
		out = append(out, group[:n]...)
		count -= n
	}
	return out
}
