package reach

import (
	"net/http"
	"testing"
	"time"
)

func TestServersAskToDoLessInManyWords(t *testing.T) {
	for words, want := range map[string]struct {
		slow  bool
		after time.Duration
	}{
		"":                      {false, 0},
		"Logging out":           {false, 0},
		"Server shutting down.": {false, 0},
		"THROTTLED slow down":   {true, 0},
		"Too many simultaneous connections. (Failure)":                           {true, 0},
		"Request is throttled. Suggested Backoff Time: 299884 milliseconds":      {true, 299884 * time.Millisecond},
		"Account exceeded command or bandwidth limits. Try again in 15 minutes.": {true, 15 * time.Minute},
		"[OVERQUOTA] rate limit reached, retry after 30":                         {true, 30 * time.Second},
		"too many logins, wait 2 hours":                                          {true, time.Hour},
		"too many logins, wait 999999999 hours":                                  {true, time.Hour},
		"TOO MANY requests, retry in 20s":                                        {true, 20 * time.Second},
	} {
		if slow, after := SlowDown(words); slow != want.slow || after != want.after {
			t.Errorf("%q: %v for %v, want %v for %v", words, slow, after, want.slow, want.after)
		}
	}
}

func TestRetryAfterIsReadInSecondsAndAsADate(t *testing.T) {
	for value, want := range map[string]time.Duration{"": 0, "120": 2 * time.Minute, "-1": 0, "99999999999": 0,
		"99999999": time.Hour, "Tue, 01 Dec 2026 14:03:00 GMT": 3 * time.Minute, "soon": 0,
		"Tue, 01 Dec 2026 13:00:00 GMT": 0} {
		answer := &http.Response{Header: http.Header{"Retry-After": {value}, "Date": {"Tue, 01 Dec 2026 14:00:00 GMT"}}}
		if got := RetryAfter(answer); got != want && !(value == "99999999999" && got == time.Hour) {
			t.Errorf("%q: %v, want %v", value, got, want)
		}
	}
}
