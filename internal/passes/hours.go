package passes

import (
	"time"

	"inktray.example/inktray/internal/core/rule"
)

// Hours are the hours of the day in which a pass may work. The zero value allows all of them.
type Hours struct{ from, to int } // minutes since midnight

// ParseHours reads two times of the day, such as "19:00" and "06:00"; both are "" where nothing is limited. The error,
// if any, is rule.Problems.
func ParseHours(from, to string) (h Hours, err error) {
	if from == "" && to == "" {
		return h, nil
	}
	minutes := [2]int{}
	for i, s := range []string{from, to} {
		at, err := time.Parse("15:04", s)
		if err != nil {
			return h, rule.Problems{{Place: []string{"from", "to"}[i], Text: "a time of the day is written as 19:00, and both " +
				"are needed"}}
		}
		minutes[i] = at.Hour()*60 + at.Minute()
	}
	if minutes[0] == minutes[1] {
		return h, rule.Problems{{Place: "to", Text: "the two times are the same, so there is no time between them"}}
	}
	return Hours{minutes[0], minutes[1]}, nil
}

// Include says whether a moment is within the hours, which may go over midnight.
func (h Hours) Include(at time.Time) bool {
	now := at.Hour()*60 + at.Minute()
	if h.from <= h.to {
		return h.from == h.to || now >= h.from && now < h.to
	}
	return now >= h.from || now < h.to
}
