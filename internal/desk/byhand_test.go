package desk

import (
	"errors"
	"slices"
	"testing"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

func TestByHandMeansWhatIsAttachedUnlessItemsAreNamed(t *testing.T) {
	m := mail.Parse([]byte("Subject: readings\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" +
		"--b\r\n\r\ntext\r\n--b\r\nContent-Type: text/csv; name=a.csv\r\nContent-Disposition: attachment; " +
		"filename=a.csv\r\n\r\n" +
		"1\r\n--b\r\nContent-Type: text/csv; name=b.csv\r\nContent-Disposition: attachment; " +
		"filename=b.csv\r\n\r\n2\r\n--b--\r\n"),
	).Message
	ids := func(items []mail.Item) (out []string) {
		for _, i := range items {
			out = append(out, i.ID)
		}
		return out
	}
	for name, c := range map[string]struct{ named, want []string }{
		"nothing named": {nil, []string{"2", "3"}},
		"one twice":     {[]string{"3", "3"}, []string{"3"}},
		"the message":   {[]string{"copy:eml"}, []string{"copy:eml"}},
	} {
		got, err := itemsByHand(m, c.named)
		if err != nil || !slices.Equal(ids(got), c.want) {
			t.Errorf("%s: got %q (%v), want %q", name, ids(got), err, c.want)
		}
	}
	var problems rule.Problems
	if _, err := itemsByHand(m, []string{"9"}); !errors.As(err, &problems) {
		t.Errorf("an item that is not there: %v", err)
	}
	if _, err := itemsByHand(mail.Parse([]byte("Subject: none\r\n\r\ntext")).Message, nil); !errors.As(err, &problems) {
		t.Errorf("a message without attachments: %v", err)
	}
}
