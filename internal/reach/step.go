package reach

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Step is a stage of reaching a server, in the order in which they happen.
type Step string

// The steps.
const (
	NameLookup Step = "name lookup"
	Connection Step = "connection"
	Encrypting Step = "encryption"
	SignIn     Step = "sign-in"
	Folders    Step = "folders"
	Push       Step = "push"
)

// Error is a failure to reach a server, with what to do about it.
type Error struct {
	Step    Step
	Problem string        // a sentence without its full stop
	Advice  string        // what to do
	Lasting bool          // trying again without a change will not help
	Slow    bool          // the server asks to do less for a while
	After   time.Duration // how long, where it says so; 0 where it does not
	Err     error
}

func (e *Error) Error() string {
	if e.Advice == "" {
		return fmt.Sprintf("%s: %s", e.Step, e.Problem)
	}
	return fmt.Sprintf("%s: %s. %s", e.Step, e.Problem, e.Advice)
}

func (e *Error) Unwrap() error { return e.Err }

// LongestAfter bounds how long a server can have Ink Tray wait.
const LongestAfter = time.Hour

var (
	asksToSlow = regexp.MustCompile(`(?i)throttl|too many|rate.?limit|bandwidth|over ?quota|exceeded|slow down`)
	delay      = regexp.MustCompile(`(?i)(?:back-?off|retry|again|wait)[^0-9]{0,40}([0-9]{1,9}) *` +
		`(ms|millisec|s\b|sec|m\b|min|h\b|hour)?`)
)

// SlowDown says whether a server's words ask to do less for a while, and how long, 0 where they do not say. Servers
// have no form of their own for it: RFC 5530 has none, and BYE (RFC 9051 section 7.1.5) carries words.
func SlowDown(words string) (slow bool, after time.Duration) {
	if !asksToSlow.MatchString(words) {
		return false, 0
	}
	m := delay.FindStringSubmatch(words)
	if m == nil {
		return true, 0
	}
	n, err := strconv.ParseInt(m[1], 10, 64)
	if err != nil {
		return true, 0
	}
	unit := time.Second
	switch u := strings.ToLower(m[2]); {
	case strings.HasPrefix(u, "ms"), strings.HasPrefix(u, "milli"):
		unit = time.Millisecond
	case strings.HasPrefix(u, "m"):
		unit = time.Minute
	case strings.HasPrefix(u, "h"):
		unit = time.Hour
	}
	return true, Bounded(time.Duration(n) * unit)
}

// Bounded keeps a time to wait, as a server says it, within reason.
func Bounded(d time.Duration) time.Duration { return min(max(d, 0), LongestAfter) }
