package pattern

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/language"
)

// date applies a date word; ok is false where the word is none.
func (w *word) date(t time.Time, lang language.Tag) (text string, ok bool) {
	year, week := t.ISOWeek()
	switch w.name {
	case "year":
		return fmt.Sprintf("%04d", t.Year()), true
	case "month":
		return two(int(t.Month())), true
	case "month name":
		return MonthName(t.Month(), lang), true
	case "day":
		return two(t.Day()), true
	case "date":
		return t.Format(time.DateOnly), true
	case "week":
		return two(week), true
	case "week year":
		return fmt.Sprintf("%04d", year), true
	case "quarter":
		return "Q" + strconv.Itoa(quarter(t)), true
	case "time":
		return t.Format("15.04"), true
	case "as":
		return formatCLDR(w.text, t, lang), true
	}
	return "", false
}

func quarter(t time.Time) int { return (int(t.Month()) + 2) / 3 }

// cldr walks a date pattern of UTS #35 (section "Date Format Patterns"): runs
// of one letter are fields, ” is an apostrophe, '...' is text.
func cldr(pattern string, field func(letter rune, count, at int), text func(string)) {
	r := []rune(pattern)
	for i := 0; i < len(r); {
		c := r[i]
		switch {
		case c == '\'':
			if i+1 < len(r) && r[i+1] == '\'' {
				text("'")
				i += 2
				continue
			}
			var b strings.Builder
			for i++; i < len(r); i++ {
				if r[i] == '\'' {
					if i+1 < len(r) && r[i+1] == '\'' {
						i++
					} else {
						i++
						break
					}
				}
				b.WriteRune(r[i])
			}
			text(b.String())
		case 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z':
			n := 1
			for i+n < len(r) && r[i+n] == c {
				n++
			}
			field(c, n, i)
			i += n
		default:
			text(string(c))
			i++
		}
	}
}

// longest is the greatest count of each letter that is known.
var longest = map[rune]int{'y': 4, 'Y': 4, 'M': 4, 'L': 4, 'd': 2, 'D': 3, 'E': 4, 'w': 2, 'Q': 3, 'H': 2, 'h': 2,
	'm': 2, 's': 2, 'a': 1}

// checkCLDR finds the first mistake of a date pattern.
func checkCLDR(pattern string) (at int, problem, meant string) {
	has := map[rune]int{}
	cldr(pattern, func(c rune, n, i int) {
		if problem != "" {
			return
		}
		if longest[c] == 0 {
			at, problem = i,
				fmt.Sprintf("the date pattern %q has the letter %c, which means nothing here; text stands in '...'", pattern, c)
		} else if n > longest[c] || (c == 'y' || c == 'Y') && n == 3 {
			at, problem = i, fmt.Sprintf("the date pattern %q has %s, which is too long", pattern, strings.Repeat(string(c), n))
		}
		has[c] = i + 1
	}, func(string) {})
	switch {
	case problem != "":
	case has['w'] > 0 && has['y'] > 0:
		at, problem, meant = has['y']-1,
			"y is the calendar year and does not go with the week w: days around New Year would land in the wrong folder",
			strings.ReplaceAll(pattern, "y", "Y")
	case has['Y'] > 0 && has['w'] == 0:
		at, problem, meant = has['Y']-1, "Y is the year of the week and goes with w only; the calendar year is y",
			strings.ReplaceAll(pattern, "Y", "y")
	}
	return at, problem, meant
}

func formatCLDR(pattern string, t time.Time, lang language.Tag) string {
	var b strings.Builder
	number := func(n, width int) { fmt.Fprintf(&b, "%0*d", width, n) }
	name := func(s string, count int) {
		if count == 3 {
			s = abbreviate(s)
		}
		b.WriteString(s)
	}
	year, week := t.ISOWeek()
	cldr(pattern, func(c rune, n, _ int) {
		switch c {
		case 'y', 'Y':
			y := t.Year()
			if c == 'Y' {
				y = year
			}
			if n == 2 {
				y, n = y%100, 2
			}
			number(y, n)
		case 'M', 'L':
			if n > 2 {
				name(MonthName(t.Month(), lang), n)
			} else {
				number(int(t.Month()), n)
			}
		case 'd':
			number(t.Day(), n)
		case 'D':
			number(t.YearDay(), n)
		case 'E':
			name(dayName(t.Weekday(), lang), max(3, n))
		case 'w':
			number(week, n)
		case 'Q':
			if n == 3 {
				b.WriteByte('Q')
				n = 1
			}
			number(quarter(t), n)
		case 'H':
			number(t.Hour(), n)
		case 'h':
			number((t.Hour()+11)%12+1, n)
		case 'm':
			number(t.Minute(), n)
		case 's':
			number(t.Second(), n)
		case 'a':
			b.WriteString(t.Format("PM"))
		}
	}, func(s string) { b.WriteString(s) })
	return b.String()
}

// abbreviate gives the first three letters, which suit names of files; CLDR's
// own abbreviations carry full stops in many languages.
func abbreviate(s string) string {
	r := []rune(s)
	return string(r[:min(3, len(r))])
}

// Languages are those whose month and day names are known, English first.
var Languages = []language.Tag{
	language.English, language.German, language.French, language.Spanish, language.Italian, language.Dutch,
	language.Portuguese,
	language.Danish, language.Swedish, language.Norwegian, language.Finnish, language.Polish,
}

var languages = language.NewMatcher(Languages)

// names are the stand-alone wide forms of CLDR 46: twelve months, then seven
// days from Sunday on, in the order of Languages.
var names = []string{
	"January February March April May June July August September October November December Sunday Monday Tuesday " +
		"Wednesday Thursday Friday Saturday",
	"Januar Februar März April Mai Juni Juli August September Oktober November Dezember Sonntag Montag Dienstag " +
		"Mittwoch Donnerstag Freitag Samstag",
	"janvier février mars avril mai juin juillet août septembre octobre novembre décembre dimanche lundi mardi mercredi " +
		"jeudi vendredi samedi",
	"enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre domingo lunes martes " +
		"miércoles jueves viernes sábado",
	"gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre domenica lunedì " +
		"martedì mercoledì giovedì venerdì sabato",
	"januari februari maart april mei juni juli augustus september oktober november december zondag maandag dinsdag " +
		"woensdag donderdag vrijdag zaterdag",
	"janeiro fevereiro março abril maio junho julho agosto setembro outubro novembro dezembro domingo segunda-feira " +
		"terça-feira quarta-feira quinta-feira sexta-feira sábado",
	"januar februar marts april maj juni juli august september oktober november december søndag mandag tirsdag onsdag " +
		"torsdag fredag lørdag",
	"januari februari mars april maj juni juli augusti september oktober november december söndag måndag tisdag onsdag " +
		"torsdag fredag lördag",
	"januar februar mars april mai juni juli august september oktober november desember søndag mandag tirsdag onsdag " +
		"torsdag fredag lørdag",
	"tammikuu helmikuu maaliskuu huhtikuu toukokuu kesäkuu heinäkuu elokuu syyskuu lokakuu marraskuu joulukuu sunnuntai " +
		"maanantai tiistai keskiviikko torstai perjantai lauantai",
	"styczeń luty marzec kwiecień maj czerwiec lipiec sierpień wrzesień październik listopad grudzień niedziela " +
		"poniedziałek wtorek środa czwartek piątek sobota",
}

// MonthName is the stand-alone name of a month; English where the language is not known.
func MonthName(m time.Month, lang language.Tag) string {
	_, i, _ := languages.Match(lang)
	return strings.Fields(names[i])[int(m)-1]
}

func dayName(d time.Weekday, lang language.Tag) string {
	_, i, _ := languages.Match(lang)
	return strings.Fields(names[i])[12+int(d)]
}
