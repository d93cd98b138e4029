// Package safename makes names that every common file system takes: Linux,
// macOS, Windows and what shares them. It never makes an empty name, "." or "..".
package safename

import (
	"strconv"
	"strings"
	"unicode"

	"github.com/rivo/uniseg"
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// MaxSegment is the longest name of one folder or file, in octets of UTF-8.
const MaxSegment = 255

// Unnamed is used where nothing of a name remains.
const Unnamed = "unnamed"

// Unsafe are the characters that some file system refuses in a name.
const Unsafe = `<>:"/\|?*`

// Clean makes text safe to stand in a name: NFC, one line, no control characters, nothing
// invisible but the joiners that words and emoji are written with (Unicode 16 section 23.2),
// no change of direction, the unsafe characters replaced. It may return "".
func Clean(s string) string {
	if clean(s) {
		return s
	}
	s = norm.NFC.String(strings.ToValidUTF8(s, "\uFFFD"))
	var b strings.Builder
	space := false
	runes := []rune(s)
	for i, r := range runes {
		switch {
		case unicode.IsSpace(r):
			space = true
			continue
		case unicode.Is(unicode.Prepended_Concatenation_Mark, r), joins(runes, i): // of category Cf, and seen
		case unicode.In(r, unicode.Cc, unicode.Cf, unicode.Co, unicode.Cs), r == 0xFFFE, r == 0xFFFF:
			continue
		case r == '"':
			r = '\''
		case strings.ContainsRune(Unsafe, r):
			r = '-'
		}
		if space && b.Len() > 0 {
			b.WriteByte(' ')
		}
		space = false
		b.WriteRune(r)
	}
	return norm.NFC.String(b.String()) // what stood between a letter and its mark may be gone now
}

// The joiners, and what flags of countries' parts are spelled with.
const (
	nonJoiner = '\u200C'
	joiner    = '\u200D'
	blackFlag = '\U0001F3F4'
	firstTag  = '\U000E0020'
	lastTag   = '\U000E007F'
)

// joining are the scripts whose words are written with joiners.
var joining = []*unicode.RangeTable{unicode.Arabic, unicode.Syriac, unicode.Mandaic, unicode.Nko, unicode.Mongolian,
	unicode.Phags_Pa, unicode.Devanagari, unicode.Bengali,
	unicode.Gurmukhi, unicode.Gujarati, unicode.Oriya, unicode.Tamil, unicode.Telugu, unicode.Kannada, unicode.Malayalam,
	unicode.Sinhala, unicode.Khmer, unicode.Myanmar}

// joins says whether the character joins, or parts, its neighbours within a word (RFC 5892
// appendix A.1 and A.2, for whole scripts) or an emoji (UTS #51 section 2.3); else it is stray.
func joins(runes []rune, i int) bool {
	r := runes[i]
	if r >= firstTag && r <= lastTag {
		for i--; i >= 0 && runes[i] >= firstTag && runes[i] <= lastTag; i-- {
		}
		return i >= 0 && runes[i] == blackFlag
	}
	if r != joiner && r != nonJoiner || i == 0 {
		return false
	}
	before := runes[i-1]
	if norm.NFC.PropertiesString(string(before)).CCC() == 9 { // a virama
		return true
	}
	if i+1 == len(runes) {
		return false
	}
	after := runes[i+1]
	for _, script := range joining {
		if unicode.Is(script, before) || unicode.Is(unicode.Mn, before) {
			if unicode.Is(script, after) && (unicode.IsLetter(after) || unicode.IsMark(after)) {
				return true
			}
		}
	}
	pictograph := func(r rune) bool { return unicode.Is(unicode.So, r) || r == '\u2194' || r == '\u2195' }
	toned := before == '\uFE0F' || before >= 0x1F3FB && before <= 0x1F3FF
	return r == joiner && (pictograph(before) || toned) && pictograph(after)
}

// clean says whether a text needs no change, as most do: plain characters with
// single spaces between them.
func clean(s string) bool {
	space := true // at the beginning
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c < 0x20 || c >= 0x7F || c == ' ' && space || unsafe[c] {
			return false
		}
		space = c == ' '
	}
	return !space
}

var unsafe = func() (t [128]bool) {
	for _, c := range Unsafe {
		t[c] = true
	}
	return t
}()

// Segment makes the name of one folder.
func Segment(s string) string { return File(s, "") }

// File makes the name of one file. ext keeps its dot and is never cut away.
func File(stem, ext string) string {
	ext = Ext(ext)
	stem = trim(Clean(stem))
	stem = trim(cut(stem, MaxSegment-len(ext)))
	if stem == "" {
		stem = Unnamed
	}
	if reserved(stem) {
		base, rest, found := strings.Cut(stem, ".")
		stem = base + "_"
		if found {
			stem += "." + rest
		}
		stem = trim(cut(stem, MaxSegment-len(ext)))
	}
	return stem + ext
}

// Numbered is the n-th name beside a taken one: "plan (2).pdf".
func Numbered(stem, ext string, n int) string {
	suffix := " (" + strconv.Itoa(n) + ")"
	ext = Ext(ext)
	file := strings.TrimSuffix(File(stem, ext), ext)
	return trim(cut(file, MaxSegment-len(ext)-len(suffix))) + suffix + ext
}

// Fold is the form under which two names count as the same: without regard to
// case, Unicode form and joiners, which nobody sees and some file systems leave out.
func Fold(s string) string {
	if strings.ContainsRune(s, joiner) || strings.ContainsRune(s, nonJoiner) {
		s = strings.NewReplacer(string(joiner), "", string(nonJoiner), "").Replace(s)
	}
	return norm.NFC.String(cases.Fold().String(norm.NFC.String(s)))
}

// Fit shortens the names of a path so that all of it, "/" between, has at most
// limit octets: the longest name first, the extension of the last one kept.
func Fit(segments []string, ext string, limit int) []string {
	fitted := append([]string(nil), segments...)
	const least = 8
	for {
		total, longest := len(fitted)-1, -1
		for i, s := range fitted {
			total += len(s)
			stem := len(s)
			if i == len(fitted)-1 {
				stem -= len(Ext(ext))
			}
			if stem > least && (longest < 0 || len(s) > len(fitted[longest])) {
				longest = i
			}
		}
		if total <= limit || longest < 0 {
			return fitted
		}
		e := ""
		if longest == len(fitted)-1 {
			e = Ext(ext)
		}
		stem := strings.TrimSuffix(fitted[longest], e)
		shorter := trim(cut(stem, max(least, len(stem)-max(1, min(total-limit, len(stem)/4)))))
		if shorter == "" || shorter == stem {
			return fitted
		}
		fitted[longest] = File(shorter, e)
	}
}

// Ext makes an extension safe, with its dot; "" where none remains.
func Ext(ext string) string {
	ext = strings.ReplaceAll(Clean(ext), " ", "")
	ext = strings.TrimRight(ext, ".")
	if len(ext) < 2 || ext[0] != '.' {
		return ""
	}
	if ext = strings.TrimRight(cut(ext, 32), "."); len(ext) < 2 {
		return ""
	}
	return ext
}

func trim(s string) string {
	if n := len(s); n > 0 && letter(s[0]) && letter(s[n-1]) {
		return s
	}
	return strings.TrimFunc(s, func(r rune) bool { return r == '.' || unicode.IsSpace(r) })
}

func letter(c byte) bool {
	return c > ' ' && c < 0x7F && c != '.'
}

// cut shortens to at most n octets, between grapheme clusters (UAX #29).
func cut(s string, n int) string {
	if len(s) <= n {
		return s
	}
	end, state, rest := 0, -1, s
	for rest != "" {
		var cluster string
		cluster, rest, _, state = uniseg.FirstGraphemeClusterInString(rest, state)
		if end+len(cluster) > n {
			break
		}
		end += len(cluster)
	}
	if end == 0 { // one cluster longer than a name: between characters then
		for i := range s {
			if i > n {
				break
			}
			end = i
		}
	}
	return s[:end]
}

// reserved knows the device names of Windows, with any extension.
func reserved(s string) bool {
	base, _, _ := strings.Cut(s, ".")
	if len(base) > 16 || len(base) < 3 || !strings.ContainsRune("CcPpAaNnLl", rune(strings.TrimSpace(base + "x")[0])) {
		return false
	}
	base = strings.ToUpper(strings.TrimSpace(base))
	switch base {
	case "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$":
		return true
	}
	rest, ok := strings.CutPrefix(base, "COM")
	if !ok {
		rest, ok = strings.CutPrefix(base, "LPT")
	}
	return ok && len([]rune(rest)) == 1 && strings.Contains("0123456789¹²³", rest)
}
