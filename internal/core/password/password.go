// Package password refuses passwords that are guessed first, as NIST SP 800-63B section 3.1.1.2 asks for.
package password

import (
	_ "embed"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Least is how many characters a password has.
const Least = 10

//go:embed common.txt
var list string

var common = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for word := range strings.FieldsSeq(list) {
		all[word] = true
	}
	return all
})

// Fault says why a password is easily guessed for a person of a name, "" if it is not.
func Fault(password, name string) string {
	plain := strings.ToLower(norm.NFKC.String(password))
	letters := []rune(plain)
	switch {
	case len(letters) < Least:
		return "the password is shorter than 10 characters"
	case few(letters):
		return "the password repeats one or two characters"
	case runs(letters):
		return "the password is a row of neighbouring characters"
	}
	rest := plain
	for word := range strings.FieldsSeq(strings.ToLower(name)) {
		if len([]rune(word)) > 2 {
			rest = strings.ReplaceAll(rest, word, "")
		}
	}
	if rest != plain && len([]rune(rest)) < 6 {
		return "the password is hardly more than the person's name"
	}
	core := bare(plain)
	if common()[plain] || common()[core] || common()[strings.NewReplacer("0", "o", "1", "i", "3", "e", "4", "a",
		"5", "s", "@", "a", "$", "s").Replace(core)] || twice(core) {
		return "the password is one of the first that attackers try"
	}
	return ""
}

// bare takes off what people add to a common word: digits and signs at its ends.
func bare(s string) string {
	s = strings.TrimFunc(s, func(r rune) bool { return !unicode.IsLetter(r) && !strings.ContainsRune("@$", r) })
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || strings.ContainsRune("-_.", r) {
			return -1
		}
		return r
	}, s)
}

// twice says whether a text is a common one, or digits, written again and again.
func twice(s string) bool {
	for n := 1; n <= len(s)/2; n++ {
		if len(s)%n == 0 && strings.Repeat(s[:n], len(s)/n) == s && (n < 4 || common()[s[:n]]) {
			return true
		}
	}
	return false
}

func few(letters []rune) bool {
	seen := map[rune]bool{}
	for _, r := range letters {
		seen[r] = true
	}
	return len(seen) < 3
}

// runs says whether a text follows the alphabet, the digits or a row of the keyboard, forwards or backwards.
func runs(letters []rune) bool {
	const rows = "01234567890 abcdefghijklmnopqrstuvwxyz qwertyuiop qwertzuiop azertyuiop asdfghjkl zxcvbnm yxcvbnm"
	steps := 0
	for i := 1; i < len(letters); i++ {
		a, b := string(letters[i-1:i+1]), string(letters[i])+string(letters[i-1])
		if strings.Contains(rows, a) || strings.Contains(rows, b) {
			steps++
		}
	}
	return steps >= len(letters)-3
}
