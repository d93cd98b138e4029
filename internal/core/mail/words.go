package mail

import (
	"encoding/base64"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
)

// DecodeText decodes a header field's text (RFC 2047), and the broken forms that
// real senders produce: encoded words inside quoted strings or joined to other
// text, a character split over two words, spaces inside a word, raw 8-bit text.
func DecodeText(s string) string {
	if plainText(s) && !strings.Contains(s, "=?") {
		return strings.TrimSpace(s)
	}
	s = unfold(s)
	if !strings.Contains(s, "=?") {
		return strings.TrimSpace(tidy(toUTF8([]byte(s), "")))
	}
	var out strings.Builder
	type run struct {
		charset, encoding string
		bytes             []byte
	}
	var open *run
	flush := func() {
		if open != nil {
			out.WriteString(toUTF8(open.bytes, open.charset))
			open = nil
		}
	}
	for s != "" {
		charset, encoding, text, before, after, ok := nextWord(s)
		if !ok {
			flush()
			out.WriteString(toUTF8([]byte(s), ""))
			break
		}
		if open == nil || strings.TrimLeft(before, " \t\r\n") != "" {
			flush()
			out.WriteString(toUTF8([]byte(before), ""))
		}
		data, ok := decodeWord(encoding, text)
		if !ok {
			flush()
			out.WriteString(toUTF8([]byte(s[len(before):len(s)-len(after)]), ""))
			s = after
			continue
		}
		if open != nil && (open.charset != charset || open.encoding != encoding) {
			flush()
		}
		if open == nil {
			open = &run{charset: charset, encoding: encoding}
		}
		open.bytes = append(open.bytes, data...)
		s = after
	}
	flush()
	return strings.TrimSpace(tidy(out.String()))
}

// plainText says whether a text is printable ASCII, as most are.
func plainText(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < ' ' || s[i] >= 0x7f {
			return false
		}
	}
	return true
}

// nextWord finds the first "=?charset?encoding?text?=". It takes time in proportion to what is before and in the
// word.
func nextWord(s string) (charset, encoding, text, before, after string, ok bool) {
	last := strings.LastIndex(s, "?=") // no word begins after it
	for from := 0; ; {
		i := strings.Index(s[from:], "=?")
		if i < 0 || from+i >= last {
			return "", "", "", "", "", false
		}
		start := from + i
		if charset, encoding, text, length := wordAt(s[start:]); length > 0 {
			return charset, encoding, text, s[:start], s[start+length:], true
		}
		from = start + 2
	}
}

// longestWord bounds an encoded word within an address list, in octets. RFC 2047 section 2 allows 75.
const longestWord = 1000

// wordAt reads the encoded word with which s begins; its length is 0 where there is none.
func wordAt(s string) (charset, encoding, text string, length int) {
	const mostCharset = 60
	charset, _, ok := strings.Cut(s[2:min(len(s), 2+mostCharset+1)], "?")
	if !ok || len(charset) == 0 || strings.ContainsAny(charset, " =\t") {
		return "", "", "", 0
	}
	rest := s[2+len(charset)+1:]
	if len(rest) < 2 || rest[1] != '?' {
		return "", "", "", 0
	}
	if encoding = strings.ToLower(rest[:1]); encoding != "q" && encoding != "b" {
		return "", "", "", 0
	}
	end := strings.Index(rest[2:], "?=")
	if end < 0 {
		return "", "", "", 0
	}
	if encoding == "q" && end == 0 && strings.HasPrefix(rest[4:], "=") {
		// an empty text followed by "=": the text begins with "="
		if more := strings.Index(rest[3:min(len(rest), 3+longestWord)], "?="); more >= 0 {
			end = more + 1
		}
	}
	charset, _, _ = strings.Cut(strings.ToLower(charset), "*") // RFC 2231 section 5: language
	return charset, encoding, rest[2 : 2+end], len(s) - len(rest) + 2 + end + 2
}

// encodedWord is the length of the encoded word with which s begins, 0 for none.
func encodedWord(s string) int {
	_, _, _, length := wordAt(s)
	return length
}

func decodeWord(encoding, text string) ([]byte, bool) {
	if encoding == "b" {
		text = strings.Map(func(r rune) rune {
			if r == ' ' || r == '\t' || r == '=' {
				return -1
			}
			return r
		}, text)
		data, err := base64.RawStdEncoding.DecodeString(text)
		return data, err == nil || len(data) > 0
	}
	data := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '_':
			data = append(data, ' ')
		case c == '=' && i+2 < len(text)+0 && ishex(text[i+1]) && ishex(text[i+2]):
			data = append(data, unhex(text[i+1])<<4|unhex(text[i+2]))
			i += 2
		default:
			data = append(data, c)
		}
	}
	return data, true
}

// decodeParam reads one parameter of a field as RFC 2231 has it, continuations
// and character sets included, and as senders that do not know it write it.
func decodeParam(params map[string]string, name string) string {
	if len(params) == 0 {
		return ""
	}
	if v, ok := params[name+"*"]; ok {
		return tidy(decodeExtended(v, ""))
	}
	type piece struct {
		number   int
		extended bool
		value    string
	}
	var pieces []piece
	for key, v := range params {
		rest, ok := strings.CutPrefix(key, name+"*")
		if !ok {
			continue
		}
		digits, extended := strings.CutSuffix(rest, "*")
		if n, err := strconv.Atoi(digits); err == nil && n >= 0 {
			pieces = append(pieces, piece{n, extended, v})
		}
	}
	if len(pieces) == 0 {
		v := params[name]
		if charset, text, ok := splitExtended(v); ok && strings.Contains(text, "%") && !strings.Contains(v, " ") {
			return tidy(toUTF8(unpercent(text), charset))
		}
		return DecodeText(v)
	}
	slices.SortFunc(pieces, func(a, b piece) int { return a.number - b.number })
	charset := ""
	var data []byte
	for i, p := range pieces {
		if i == 0 && p.extended {
			if c, text, ok := splitExtended(p.value); ok {
				charset, p.value = c, text
			}
		}
		if p.extended {
			data = append(data, unpercent(p.value)...)
		} else {
			data = append(data, p.value...)
		}
	}
	if charset == "" {
		return DecodeText(string(data))
	}
	return tidy(toUTF8(data, charset))
}

func decodeExtended(v, charset string) string {
	if c, text, ok := splitExtended(v); ok {
		charset, v = c, text
	}
	return toUTF8(unpercent(v), charset)
}

// splitExtended parts charset'language'text.
func splitExtended(v string) (charset, text string, ok bool) {
	charset, rest, ok := strings.Cut(v, "'")
	if !ok || len(charset) > 60 {
		return "", v, false
	}
	_, text, ok = strings.Cut(rest, "'")
	if !ok {
		return "", v, false
	}
	for _, c := range charset {
		if !('a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.ContainsRune("-_.:+", c)) {
			return "", v, false
		}
	}
	return strings.ToLower(charset), text, true
}

func unpercent(s string) []byte {
	out := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && i+2 < len(s) && ishex(s[i+1]) && ishex(s[i+2]) {
			out = append(out, unhex(s[i+1])<<4|unhex(s[i+2]))
			i += 2
			continue
		}
		out = append(out, s[i])
	}
	return out
}

func ishex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

func unhex(c byte) byte {
	switch {
	case c >= 'a':
		return c - 'a' + 10
	case c >= 'A':
		return c - 'A' + 10
	}
	return c - '0'
}

// toUTF8 converts from a named character set. Where the name is unknown or
// wrong, UTF-8 is tried and then Windows-1252, which never fails.
func toUTF8(data []byte, charset string) string {
	switch charset {
	case "", "utf-8", "utf8", "us-ascii", "ascii", "unknown-8bit", "default", "x-unknown":
		if utf8.Valid(data) {
			return string(data)
		}
	default:
		if enc, err := htmlindex.Get(charset); err == nil {
			if out, err := enc.NewDecoder().Bytes(data); err == nil {
				return string(out)
			}
		} else if utf8.Valid(data) {
			return string(data)
		}
	}
	if charset == "utf-8" || charset == "utf8" {
		return strings.ToValidUTF8(string(data), "\uFFFD")
	}
	out, _ := charmap.Windows1252.NewDecoder().Bytes(data)
	return string(out)
}

// tidy keeps header text on one line: control characters become spaces, and
// what is not UTF-8 by now is replaced.
func tidy(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || 0x80 <= r && r < 0xa0 {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
}

// unfold joins folded lines (RFC 5322 section 2.2.3).
func unfold(s string) string {
	if !strings.ContainsAny(s, "\r\n") {
		return s
	}
	return strings.NewReplacer("\r\n", "", "\n", "", "\r", "").Replace(s)
}

// ConvertText converts a text part to UTF-8.
func ConvertText(data []byte, charset string) string { return toUTF8(data, strings.ToLower(charset)) }

// replyPrefix knows the marks that mail programs of many languages put before a
// subject, with counts, as in "Re[2]: AW: ".
var replyPrefix = regexp.MustCompile(
	`(?i)^\s*((re|fwd?|fw|aw|wg|antw|sv|vs|vb|tr|rv|réf|rif|odp|pd|ynt|atb|enc|res|doorst)\s*(\[\d+\]|\(\d+\))?\s*[:：]\s*)+`)

// BareSubject is a subject without reply and forward marks.
func BareSubject(subject string) string {
	if !strings.ContainsAny(subject, ":：") {
		return strings.TrimSpace(subject)
	}
	return strings.TrimSpace(replyPrefix.ReplaceAllString(subject, ""))
}
