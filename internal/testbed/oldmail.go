package testbed

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"strings"
)

// MostAttached is how many files a message of OldMail has attached at most.
const MostAttached = 5

// OldMail makes the message i of a mailbox that an office filled over years: every second one is plain text or text
// with pictures that it shows, the others hold papers of many kinds and sizes. The same seed makes the same messages.
// attachments is how many files a person would say are attached to it, and octets what they hold.
func OldMail(seed uint64, i int) (message []byte, attachments int, octets int64) {
	r := rand.New(rand.NewPCG(seed, uint64(i)))
	senders := []string{"oda@tidewatch.example", "office@quaylight.example", "post@dredgers.example",
		"accounts@ropeworks.example", "wim@brackwater.example", "gate@saltmarsh.example", "no-reply@gauges.example"}
	words := []string{"Invoice", "Gauge readings", "Berth plan", "Delivery note", "Minutes", "Survey", "Your request",
		"Photos"}
	var b bytes.Buffer
	sender := senders[r.IntN(len(senders))]
	fmt.Fprintf(&b, "Return-Path: <%s>\r\nReceived: from mx%d.%s (mx [192.0.2.%d])\r\n\tby mail.brackwater.example with "+
		"ESMTPS; Tue, 12 May 2026 06:02:00 +0000\r\nMessage-ID: <%d.%d@%s>\r\nDate: Tue, %d May 2026 06:%02d:00 +0000\r\n"+
		"From: \"The office\" <%s>\r\nTo: gauges@brackwater.example\r\nSubject: %s %d\r\nMIME-Version: 1.0\r\n", sender, i%4,
		sender[strings.IndexByte(sender, '@')+1:], i%250, i, seed, sender[strings.IndexByte(sender, '@')+1:], 1+i%28, i%60,
		sender, words[r.IntN(len(words))], i)
	text := strings.Repeat("The harbour office asks for the papers of last week, as every week.\r\n", 2+r.IntN(40))
	switch kind := r.IntN(100); {
	case kind < 30:
		fmt.Fprintf(&b, "Content-Type: text/plain; charset=utf-8\r\n\r\n%s", text)
		return b.Bytes(), 0, 0
	case kind < 45:
		fmt.Fprintf(&b, "Content-Type: multipart/alternative; boundary=alt\r\n\r\n--alt\r\nContent-Type: text/plain"+
			"\r\n\r\n%s\r\n--alt\r\nContent-Type: text/html\r\n\r\n<p>%s</p>\r\n--alt--\r\n", text, text)
		return b.Bytes(), 0, 0
	case kind < 53: // a picture that the text shows
		fmt.Fprintf(&b, "Content-Type: multipart/related; boundary=rel\r\n\r\n--rel\r\nContent-Type: text/html\r\n\r\n<p>%s"+
			"<img src=\"cid:logo%d\"></p>\r\n--rel\r\nContent-Type: image/png; name=logo.png\r\nContent-ID: <logo%d>\r\n"+
			"Content-Disposition: inline; filename=logo.png\r\nContent-Transfer-Encoding: base64\r\n\r\n%s--rel--\r\n",
			text, i, i,
			lines(append([]byte("\x89PNG\r\n\x1a\n"), random(r, 4_000+r.IntN(9_000))...)))
		return b.Bytes(), 0, 0
	}
	n := 1
	if r.IntN(12) == 0 {
		n = 2 + r.IntN(MostAttached-1)
	}
	b.WriteString("Content-Type: multipart/mixed; boundary=mix\r\n\r\n--mix\r\nContent-Type: text/plain\r\n\r\n" + text)
	for k := range n {
		size := 2_000 + r.IntN(60_000)
		switch r.IntN(10) {
		case 0, 1:
			size = 150_000 + r.IntN(300_000)
		case 2:
			size = 200_000 + r.IntN(600_000)
		}
		name, kind, content := paper(r, fmt.Sprintf("%d-%d", i, k), size)
		octets += int64(len(content))
		fmt.Fprintf(&b, "\r\n--mix\r\nContent-Type: %s; name=\"%s\"\r\nContent-Disposition: attachment; filename=\"%s\"\r\n"+
			"Content-Transfer-Encoding: base64\r\n\r\n%s", kind, name, name, lines(content))
	}
	b.WriteString("--mix--\r\n")
	return b.Bytes(), n, octets
}

// paper is a file of some kind, of about so many octets.
func paper(r *rand.Rand, id string, size int) (name, kind string, content []byte) {
	switch k := r.IntN(100); {
	case k < 55:
		return "paper " + id + ".pdf", "application/pdf", append([]byte("%PDF-1.7\n"), random(r, size)...)
	case k < 70:
		return "photo " + id + ".jpg", "image/jpeg", append([]byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00"), random(r, size)...)
	case k < 80:
		return "readings " + id + ".zip", "application/zip", zipped(r, size, "readings.csv", "photo.jpg")
	case k < 88:
		return "plan " + id + ".xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
			zipped(r, size, "[Content_Types].xml", "xl/workbook.xml")
	case k < 95:
		return "list " + id + ".csv", "text/csv", []byte(strings.Repeat("station;level\r\nNorth quay;1.20\r\n", 1+size/33))
	}
	return "letter " + id + ".docx", "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
		zipped(r, size, "[Content_Types].xml", "word/document.xml")
}

// zipped is a zip of some files whose content cannot be compressed.
func zipped(r *rand.Rand, size int, names ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range names {
		if w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store}); err == nil {
			_, _ = w.Write(random(r, size/len(names)))
		}
	}
	_ = z.Close()
	return b.Bytes()
}

// random makes octets quickly.
func random(r *rand.Rand, n int) []byte {
	b := make([]byte, 0, n+8)
	for len(b) < n {
		b = binary.LittleEndian.AppendUint64(b, r.Uint64())
	}
	return b[:n]
}

// lines is base64 in lines of 76 characters (RFC 2045 section 6.8).
func lines(content []byte) []byte {
	out := make([]byte, 0, len(content)*3/2)
	for len(content) > 0 {
		n := min(57, len(content))
		out = base64.StdEncoding.AppendEncode(out, content[:n])
		out = append(out, '\r', '\n')
		content = content[n:]
	}
	return out
}
