package value

import (
	_ "embed" // the names of months and days
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
)

//go:embed dates.txt
var datesFile string

// The words of dates, in many languages: months by their number, which is 0 for a name that means another month in
// another language, and words that say nothing more, such as days of the week.
var months, besides = dateWords(datesFile)

func dateWords(file string) (months map[string]time.Month, besides map[string]bool) {
	months, besides = map[string]time.Month{}, map[string]bool{}
	n := time.Month(0)
	for line := range strings.Lines(file) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		n++
		for word := range strings.FieldsSeq(line) {
			switch {
			case n <= time.December:
				months[word] = n
			case n == time.December+1:
				months[word] = 0
			default:
				besides[word] = true
			}
		}
	}
	for name, m := range map[string]time.Month{"mrz": time.March, "maerz": time.March, "jän": time.January,
		"jänner": time.January} {
		months[name] = m
	}
	return months, besides
}

// date reads a day.
func date(text, order string) (string, error) {
	no := func(why string) (string, error) { return "", fmt.Errorf("“%s” is not a date%s", text, why) }
	parts := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return unicode.IsSpace(r) || strings.ContainsRune("./-,‐‑–年月日", r)
	})
	parts = slices.DeleteFunc(parts, func(p string) bool {
		_, month := months[p]
		return besides[p] && !month
	})
	if len(parts) == 4 && !strings.ContainsAny(parts[0], "0123456789") { // the day of the week
		parts = parts[1:]
	}
	if len(parts) == 1 && len(parts[0]) == 8 && strings.Trim(parts[0], "0123456789") == "" {
		parts = []string{parts[0][:4], parts[0][4:6], parts[0][6:]}
	}
	if len(parts) != 3 {
		return no("")
	}
	named := slices.IndexFunc(parts, func(p string) bool { _, ok := months[p]; return ok })
	day, month, year := 0, 1, 2
	switch {
	case len(parts[0]) == 4 && named == 2: // as in Latvian
		year, day, month = 0, 1, 2
	case len(parts[0]) == 4 && named != 0:
		year, month, day = 0, 1, 2
	case named == 0 || named < 0 && order == MonthFirst:
		month, day = 0, 1
	case named < 0 && order == YearFirst:
		year, month, day = 0, 1, 2
	}
	if named >= 0 && named != month {
		return no("")
	}
	numberAt := func(i, digits int) int {
		p := parts[i]
		if i == day {
			p = strings.TrimRight(p, "stndrheº") // 1st, 2nd, 3rd, 4th, 1er
		}
		n, err := strconv.Atoi(p)
		if err != nil || len(p) > digits || n < 0 {
			return -1
		}
		return n
	}
	y, d, m := numberAt(year, 4), numberAt(day, 2), int(months[parts[month]])
	if named < 0 {
		m = numberAt(month, 2)
	} else if m == 0 {
		return no(" that is clear: “" + parts[month] + "” is another month in another language")
	}
	if len(parts[year]) == 2 && y >= 0 { // as in ISO C's strptime
		if y += 2000; y > 2068 {
			y -= 100
		}
	}
	if m > 12 {
		return no(": there is no month " + parts[month])
	}
	if y < 1000 || m < 1 || d < 1 {
		return no("")
	}
	at := time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
	if at.Day() != d {
		return no(fmt.Sprintf(": that month has no day %d", d))
	}
	return at.Format(time.DateOnly), nil
}
