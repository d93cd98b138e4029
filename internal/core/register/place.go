package register

import (
	"errors"
	"net/url"
	"regexp"
	"strconv"
	"strings"
)

// Base is how colleagues reach a cabinet from their machines: a web address
// ("https://files.example/harbour"), a share of Windows ("\\server\harbour" or
// "H:\harbour") or a folder ("/srv/harbour"). The empty Base is none.
type Base string

var (
	drive  = regexp.MustCompile(`^[A-Za-z]:[\\/]`)
	scheme = regexp.MustCompile(`^(https?|davs?|smb|sftp|nfs|file)://[^/]`)
)

// ErrBase says what a base address may be.
var ErrBase = errors.New(
	`this is not an address; it begins with https://, with smb:// or another scheme, with \\server\share, with a drive such as H:\ or with /`)

// Check says whether the address is one.
func (b Base) Check() error {
	s := string(b)
	if s == "" || strings.HasPrefix(s, `\\`) && len(s) > 2 || drive.MatchString(s) || strings.HasPrefix(s, "/") &&
		!strings.ContainsRune(s, 0) {
		return nil
	}
	if scheme.MatchString(s) || strings.HasPrefix(s, "file:///") {
		if _, err := url.Parse(s); err == nil {
			return nil
		}
	}
	return ErrBase
}

// Place is where something is as colleagues see it.
type Place struct {
	Shown string // to be read and copied: \\server\harbour\Gauges\2026
	URL   string // to be opened: file://server/harbour/Gauges/2026 (RFC 8089)
}

// At is the place of a path of the cabinet, with "/" between its levels. With no
// base there is none.
func (b Base) At(path string) Place {
	base := strings.TrimRight(string(b), `/\`)
	var levels []string
	if path != "" {
		levels = strings.Split(path, "/")
	}
	escaped := make([]string, len(levels))
	for i, l := range levels {
		escaped[i] = url.PathEscape(l)
	}
	join := func(base, between string, levels []string) string {
		return strings.Join(append([]string{base}, levels...), between)
	}
	switch {
	case b == "":
		return Place{}
	case strings.HasPrefix(string(b), `\\`):
		host, share, _ := strings.Cut(strings.TrimPrefix(strings.ReplaceAll(base, "/", `\`), `\\`), `\`)
		u := url.URL{Scheme: "file", Host: host, Path: "/" + strings.ReplaceAll(share, `\`, "/")}
		return Place{join(base, `\`, levels), join(strings.TrimRight(u.String(), "/"), "/", escaped)}
	case drive.MatchString(string(b)):
		u := url.URL{Scheme: "file", Path: "/" + strings.ReplaceAll(base, `\`, "/")}
		return Place{join(strings.ReplaceAll(base, "/", `\`), `\`, levels), join(u.String(), "/", escaped)}
	case strings.HasPrefix(string(b), "/"):
		u := url.URL{Scheme: "file", Path: base}
		return Place{join(base, "/", levels), join(u.String(), "/", escaped)}
	}
	at := join(base, "/", escaped)
	return Place{at, at}
}

// MessageURL names a message wherever it is, by its Message-ID (RFC 2392,
// section 2). It is empty where the message has none.
func MessageURL(messageID string) string {
	id := strings.Trim(strings.TrimSpace(messageID), "<>")
	if id == "" {
		return ""
	}
	return "mid:" + strings.ReplaceAll(url.PathEscape(id), "%40", "@")
}

// MailboxURL names a message at its place on the server (RFC 5092, sections 3
// and 6): imap://user@host/folder;UIDVALIDITY=n/;UID=m.
func MailboxURL(user, host string, port int, folder string, uidValidity, uid uint32) string {
	if port != 143 {
		host += ":" + strconv.Itoa(port)
	}
	return "imap://" + strings.ReplaceAll(url.PathEscape(user), "@", "%40") + "@" + host + "/" +
		strings.ReplaceAll(url.PathEscape(folder), "%2F", "/") +
		";UIDVALIDITY=" + strconv.FormatUint(uint64(uidValidity), 10) + "/;UID=" + strconv.FormatUint(uint64(uid), 10)
}
