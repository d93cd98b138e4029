// Package phrase has the small parts of which sentences are made.
package phrase

import (
	"fmt"
	"strings"
)

// TrimStop takes the full stop off the end of a sentence.
func TrimStop(s string) string {
	if len(s) > 0 && s[len(s)-1] == '.' {
		return s[:len(s)-1]
	}
	return s
}

// Join puts two remarks into one; either may be "".
func Join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// Count is a number with its noun, "1 message" or "2 messages".
func Count(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}

// List names at most so many texts, and says how many more there are. A text that is "" is named "no subject".
func List(texts []string, most int) string {
	var named []string
	for _, t := range texts[:min(most, len(texts))] {
		if t == "" {
			t = "no subject"
		}
		named = append(named, "“"+t+"”")
	}
	list := strings.Join(named, ", ")
	if more := len(texts) - most; more > 0 {
		list += fmt.Sprintf(" and %d more", more)
	}
	return list
}

// Tally names each text once, with how often it occurs: "the draft (3 times)".
func Tally(all []string) []string {
	n := map[string]int{}
	var out []string
	for _, s := range all {
		if n[s]++; n[s] == 1 {
			out = append(out, s)
		}
	}
	for i, s := range out {
		if n[s] > 1 {
			out[i] = fmt.Sprintf("%s (%d times)", s, n[s])
		}
	}
	return out
}
