package mail

import (
	"bytes"
	"encoding/binary"
)

// ZipLock looks while a zip goes by whether files in it are encrypted (PKWARE APPNOTE.TXT sections 4.3.12 and 4.4.4).
// It is handed the content as a writer.
type ZipLock struct {
	tail []byte
	size int64
}

// zipTail is how much of a zip's end is kept for its directory, in octets.
const zipTail = 256 << 10

// IsZip says whether a content begins as a zip does.
func IsZip(first []byte) bool {
	return bytes.HasPrefix(first, []byte("PK\x03\x04")) || bytes.HasPrefix(first, []byte("PK\x05\x06"))
}

// Write looks at a part of the content.
func (z *ZipLock) Write(p []byte) (int, error) {
	z.size += int64(len(p))
	if z.tail = append(z.tail, p[max(0, len(p)-zipTail):]...); len(z.tail) > 2*zipTail {
		z.tail = append(z.tail[:0], z.tail[len(z.tail)-zipTail:]...)
	}
	return len(p), nil
}

// Locked says, once all has gone by, whether a file in it is encrypted. It is not known where the directory is not as
// usual: then the archive has to be opened.
func (z *ZipLock) Locked() (locked, known bool) {
	const endSize, entrySize = 22, 46
	le := binary.LittleEndian
	at := bytes.LastIndex(z.tail, []byte("PK\x05\x06"))
	if at < 0 || len(z.tail)-at < endSize {
		return false, false
	}
	end := z.tail[at:]
	count, size, offset := int(le.Uint16(end[10:])), int64(le.Uint32(end[12:])), int64(le.Uint32(end[16:]))
	comment := int(le.Uint16(end[20:]))
	begins := z.size - int64(len(z.tail)) // where the tail begins
	if le.Uint16(end[4:]) != 0 || int(le.Uint16(end[8:])) != count || count == 0xffff || comment != len(end)-endSize ||
		offset+size != begins+int64(at) || offset < begins {
		return false, false
	}
	directory := z.tail[offset-begins : at]
	for ; count > 0; count-- {
		if len(directory) < entrySize || !bytes.HasPrefix(directory, []byte("PK\x01\x02")) {
			return false, false
		}
		name, rest := int(le.Uint16(directory[28:])), int(le.Uint16(directory[30:]))+int(le.Uint16(directory[32:]))
		if len(directory) < entrySize+name+rest {
			return false, false
		}
		if le.Uint16(directory[8:])&1 != 0 {
			if name > 0 && directory[entrySize+name-1] == '/' {
				return false, false // a folder that is encrypted
			}
			locked = true
		}
		directory = directory[entrySize+name+rest:]
	}
	return locked, len(directory) == 0
}
