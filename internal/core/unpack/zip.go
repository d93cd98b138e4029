package unpack

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1" // the format's own (WinZip AE-1, AE-2)
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"io/fs"
)

// zip looks into a zip archive (PKWARE APPNOTE.TXT), also where it is encrypted
// in the traditional way (section 6.1) or as WinZip does (AE-1, AE-2).
func (o *opener) zip() error {
	z, err := zip.NewReader(o.src, o.size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return broken("archive", err)
	}
	if len(z.File) > o.limits.Entries {
		o.count = o.limits.Entries
		_, err := o.next()
		return err
	}
	// What the directory says settles most traps before anything is read.
	said := &opener{size: o.size, limits: o.limits}
	for _, f := range z.File {
		if f.UncompressedSize64 > 1<<62 {
			return broken("archive", errors.New("a size that cannot be"))
		}
		if err := said.room(int64(f.UncompressedSize64)); err != nil {
			return err
		}
	}
	password, known := "", false
	for _, f := range z.File {
		if f.Flags&1 == 0 || f.FileInfo().IsDir() {
			continue
		}
		for _, p := range o.request.Passwords {
			if r, err := decrypt(f, p); err == nil {
				if _, err := io.Copy(io.Discard, io.LimitReader(r, 1<<20)); err == nil {
					password, known = p, true
					break
				}
			}
		}
		if !known {
			return encrypted("archive", len(o.request.Passwords))
		}
		break
	}
	for _, f := range z.File {
		if f.FileInfo().IsDir() {
			continue
		}
		e := Entry{Name: f.Name, Size: int64(f.UncompressedSize64)}
		if e.Number, err = o.next(); err != nil {
			return err
		}
		if f.Mode()&fs.ModeSymlink != 0 || !f.Mode().IsRegular() {
			e.Left = "a link or a device, which is never followed"
		}
		if !o.wants(e.Number) {
			if err := o.give(e, nil); err != nil {
				return err
			}
			continue
		}
		var content io.ReadCloser
		if f.Flags&1 != 0 {
			content, err = decrypt(f, password)
		} else {
			content, err = f.Open()
		}
		if err != nil { // a broken one does not spoil the others
			content = io.NopCloser(spoiled{err})
		}
		err = o.told("archive", o.give(e, content))
		content.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// spoiled is a content that cannot be read.
type spoiled struct{ err error }

func (s spoiled) Read([]byte) (int, error) { return 0, s.err }

var errPassword = errors.New("another password")

// decrypt opens an encrypted file of a zip.
func decrypt(f *zip.File, password string) (io.ReadCloser, error) {
	raw, err := f.OpenRaw()
	if err != nil {
		return nil, err
	}
	method, strength, check := f.Method, byte(0), true
	if method == 99 {
		if method, strength, check = winZip(f.Extra); strength == 0 {
			return nil, errors.New("an encryption that is not known")
		}
		if raw, err = winZipReader(raw, int64(f.CompressedSize64), password, strength); err != nil {
			return nil, err
		}
	} else if raw, err = traditional(raw, f, password); err != nil {
		return nil, err
	}
	var out io.ReadCloser
	switch method {
	case zip.Store:
		out = io.NopCloser(raw)
	case zip.Deflate:
		out = flate.NewReader(raw)
	default:
		return nil, errors.New("a compression that is not known")
	}
	sum := &summed{ReadCloser: out, left: int64(f.UncompressedSize64)}
	if check {
		sum.want = &f.CRC32
	}
	return sum, nil
}

// summed checks size and CRC-32 at the end.
type summed struct {
	io.ReadCloser
	left int64
	sum  uint32
	want *uint32
}

func (s *summed) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p)
	s.sum = crc32.Update(s.sum, crc32.IEEETable, p[:n])
	if s.left -= int64(n); s.left < 0 {
		return n, errors.New("it is longer than it says")
	}
	if err == io.EOF && (s.left > 0 || s.want != nil && s.sum != *s.want) {
		err = errPassword
	}
	return n, err
}

// traditional is PKWARE's encryption (APPNOTE.TXT section 6.1).
func traditional(r io.Reader, f *zip.File, password string) (io.Reader, error) {
	c := &traditionalReader{r: r, keys: [3]uint32{0x12345678, 0x23456789, 0x34567890}}
	for _, b := range []byte(password) {
		c.update(b)
	}
	head := make([]byte, 12)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, err
	}
	want := byte(f.CRC32 >> 24)
	if f.Flags&8 != 0 {
		want = byte(f.ModifiedTime >> 8) //nolint:staticcheck // the encryption is bound to the field as it was written
	}
	if head[11] != want && head[11] != byte(f.CRC32>>24) {
		return nil, errPassword
	}
	return c, nil
}

type traditionalReader struct {
	r    io.Reader
	keys [3]uint32
}

func (c *traditionalReader) update(b byte) {
	crc := func(old uint32, b byte) uint32 { return crc32.IEEETable[byte(old)^b] ^ old>>8 }
	c.keys[0] = crc(c.keys[0], b)
	c.keys[1] = (c.keys[1]+c.keys[0]&0xff)*134775813 + 1
	c.keys[2] = crc(c.keys[2], byte(c.keys[1]>>24))
}

func (c *traditionalReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	for i := range p[:n] {
		t := c.keys[2] | 2
		p[i] ^= byte(t * (t ^ 1) >> 8)
		c.update(p[i])
	}
	return n, err
}

// winZip reads the extra field 0x9901.
func winZip(extra []byte) (method uint16, strength byte, check bool) {
	for len(extra) >= 4 {
		tag, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		extra = extra[4:]
		if size > len(extra) {
			break
		}
		if tag == 0x9901 && size >= 7 {
			return binary.LittleEndian.Uint16(extra[5:]), extra[4], binary.LittleEndian.Uint16(extra) == 1
		}
		extra = extra[size:]
	}
	return 0, 0, false
}

// winZipReader decrypts AE-1 and AE-2: AES in counter mode, little-endian, with
// keys of PBKDF2-HMAC-SHA1 and an HMAC-SHA1 of ten octets at the end.
func winZipReader(r io.Reader, size int64, password string, strength byte) (io.Reader, error) {
	if strength < 1 || strength > 3 {
		return nil, errors.New("an encryption that is not known")
	}
	keySize, saltSize := 8+8*int(strength), 4+4*int(strength)
	head := make([]byte, saltSize+2)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	keys, err := pbkdf2.Key(sha1.New, password, head[:saltSize], 1000, 2*keySize+2)
	if err != nil {
		return nil, err
	}
	if !bytes.Equal(keys[2*keySize:], head[saltSize:]) {
		return nil, errPassword
	}
	block, err := aes.NewCipher(keys[:keySize])
	if err != nil {
		return nil, err
	}
	left := size - int64(len(head)) - 10
	if left < 0 {
		return nil, errors.New("it is too short")
	}
	return &winZipStream{r: r, left: left, block: block, mac: hmac.New(sha1.New, keys[keySize:2*keySize])}, nil
}

type winZipStream struct {
	r     io.Reader
	left  int64
	block cipher.Block
	mac   interface {
		io.Writer
		Sum([]byte) []byte
	}
	counter uint64
	pad     [aes.BlockSize]byte
	used    int
	begun   bool
}

func (w *winZipStream) Read(p []byte) (int, error) {
	if w.left == 0 {
		want := make([]byte, 10)
		if _, err := io.ReadFull(w.r, want); err != nil {
			return 0, io.ErrUnexpectedEOF
		}
		if !hmac.Equal(w.mac.Sum(nil)[:10], want) {
			return 0, errPassword
		}
		w.left = -1
	}
	if w.left < 0 {
		return 0, io.EOF
	}
	n, err := w.r.Read(p[:min(int64(len(p)), w.left)])
	w.left -= int64(n)
	_, _ = w.mac.Write(p[:n])
	for i := range p[:n] {
		if !w.begun || w.used == aes.BlockSize {
			w.counter++
			var c [aes.BlockSize]byte
			binary.LittleEndian.PutUint64(c[:], w.counter)
			w.block.Encrypt(w.pad[:], c[:])
			w.used, w.begun = 0, true
		}
		p[i] ^= w.pad[w.used]
		w.used++
	}
	if err == io.EOF && w.left > 0 {
		err = io.ErrUnexpectedEOF
	} else if err == io.EOF {
		err = nil
	}
	return n, err
}
