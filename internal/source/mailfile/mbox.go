package mailfile

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
)

// ErrNoMbox says that a file is none.
var ErrNoMbox = errors.New("this is no mbox file: it does not begin with a line that begins with “From ”")

// A line that parts messages: "From", an address, a date as asctime writes it,
// and perhaps a zone (RFC 4155 appendix A, and older forms).
var separator = regexp.MustCompile(`^From \S.*?\s((?:Mon|Tue|Wed|Thu|Fri|Sat|Sun) [A-Z][a-z]{2} [ \d]\d \d\d:\d\d(?::\d\d)?(?: [A-Z]{1,5})? \d{4}(?: [+-]\d{4})?)\s*$`)

func postmark(line []byte) (time.Time, bool) {
	found := separator.FindSubmatch(line)
	if found == nil {
		return time.Time{}, false
	}
	text := string(found[1])
	for _, layout := range []string{"Mon Jan _2 15:04:05 2006 -0700", "Mon Jan _2 15:04:05 2006", "Mon Jan _2 15:04 2006", "Mon Jan _2 15:04:05 MST 2006"} {
		if at, err := time.Parse(layout, text); err == nil {
			return at, true
		}
	}
	return time.Time{}, true
}

// Mbox reads an mbox file message by message, in the form in which lines that
// begin with "From " are quoted by ">" (mboxrd), which reads the others, too. The
// time is that of the separating line, zero where that has none.
func Mbox(r io.Reader, each func(raw []byte, received time.Time) error) error {
	in := bufio.NewReaderSize(r, 64<<10)
	var message bytes.Buffer
	var received time.Time
	begun, blank := false, true
	flush := func() error {
		if !begun {
			return nil
		}
		raw := message.Bytes()
		for _, end := range []string{"\r\n\r\n", "\n\n"} { // the empty line before the next separator
			if bytes.HasSuffix(raw, []byte(end)) {
				raw = raw[:len(raw)-len(end)/2]
				break
			}
		}
		err := each(raw, received)
		message.Reset()
		return err
	}
	for {
		line, err := in.ReadSlice('\n')
		whole := !errors.Is(err, bufio.ErrBufferFull)
		if err != nil && whole && err != io.EOF {
			return err
		}
		if len(line) > 0 {
			at, parts := time.Time{}, false
			if blank && bytes.HasPrefix(line, []byte("From ")) {
				at, parts = postmark(line)
			}
			switch {
			case parts:
				if err := flush(); err != nil {
					return err
				}
				begun, received = true, at
			case !begun && len(bytes.TrimSpace(line)) > 0:
				return ErrNoMbox
			case begun:
				if blank || message.Len() == 0 || bytes.HasSuffix(message.Bytes(), []byte("\n")) {
					if quoted := bytes.TrimLeft(line, ">"); len(quoted) < len(line) && bytes.HasPrefix(quoted, []byte("From ")) {
						line = line[1:]
					}
				}
				message.Write(line)
				if message.Len() > maxMessage {
					return fmt.Errorf("a message of it has more than %d MB", maxMessage>>20)
				}
			}
			blank = strings.TrimRight(string(line), "\r\n") == "" && whole
			if parts {
				blank = false
			}
		}
		if err == io.EOF {
			if !begun {
				return ErrNoMbox
			}
			return flush()
		}
	}
}
