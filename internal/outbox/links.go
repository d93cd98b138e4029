package outbox

import (
	"context"
	"fmt"
	"strings"
	"time"

	"inktray.example/inktray/internal/post"
	"inktray.example/inktray/internal/store"
)

// SendLink sends somebody a link by which a password is chosen, at once: it is kept nowhere. path is what follows the
// console's address in it. The error is a *post.Error where outgoing mail is not set up or does not work.
func (ob *Outbox) SendLink(ctx context.Context, to, name, path string, until time.Time) error {
	out, err := ob.Outgoing(ctx)
	if err != nil {
		return err
	}
	if out.Console == "" {
		return &post.Error{Problem: "the address of the console is not set",
			Advice: "Enter the address of the console in Settings, Outgoing mail, or give the person the link yourself."}
	}
	in := ob.language()
	works := fmt.Sprintf(in.Format("with this link you choose a password for Ink Tray. It works once, until %s:"),
		in.Count(until.In(ob.Zone).Format("2 January 2006, 15:04")))
	text := fmt.Sprintf("%s,\n\n%s\n\n%s%s\n\n%s\n", name, works, strings.TrimRight(out.Console, "/"), path,
		in.Say("If you did not expect it, do nothing, and tell your administrator."))
	letter := post.Letter{From: out.From, Name: out.Name, To: []string{to}, Subject: in.Say("Your way into Ink Tray"),
		Text: text,
		ID:   fmt.Sprintf("<%s.link.%d@%s>", ob.Installation, ob.Clock().UnixNano(), domainOf(out.From)),
		Date: ob.Now(), Auto: "auto-generated"}
	content, err := letter.Bytes()
	if err != nil {
		return err
	}
	return ob.sendMail(ctx, &store.Post{Recipients: to, Content: content})
}
