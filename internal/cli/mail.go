package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// mailByHand are the commands by which a person looks, reads and files by hand.
func (c mailCommands) mailByHand(root *cobra.Command) {
	root.AddCommand(topicCommands(c).judge(), topicCommands(c).prove(), c.mailLook(), c.mailFile(),
		c.mailChange(), c.mailTakeIn())
}

func (c mailCommands) mailLook() *cobra.Command {
	var folder, words, since, until string
	var most int
	var before int64
	var attachments, unfiled, unread bool
	cmd := &cobra.Command{
		Use: "look MAILBOX", Short: "Show the mail in a mailbox as it is now, the last received first; nothing is marked " +
			"as read",
		Args:    cobra.ExactArgs(1),
		Example: "  inktray messages look gauges --text readings --unfiled",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			p := &client.LookIntoParams{Folder: &folder, Text: &words, Attachments: &attachments, Unfiled: &unfiled,
				Unread: &unread, Most: &most}
			if since != "" {
				if p.Since, err = dayOf("--since", since); err != nil {
					return err
				}
			}
			if until != "" {
				if p.Until, err = dayOf("--until", until); err != nil {
					return err
				}
			}
			if before > 0 {
				p.Before = &before
			}
			x, err := call[client.LookedInto](api.LookInto(ctx, m.ID, p))
			if err != nil {
				return err
			}
			return c.show(x, func() {
				var rows [][]string
				for _, m := range x.Messages {
					var names []string
					for _, i := range *m.Items {
						if !i.Inline {
							names = append(names, short(i.Name, 30))
						}
					}
					filed := ""
					if *m.Filed > 0 {
						filed = fmt.Sprintf("%d filed", *m.Filed)
					}
					if m.Sender != nil && *m.Sender == client.MessageSenderNotVerified {
						filed = strings.TrimSpace(filed + " sender not verified")
					}
					rows = append(rows,
						[]string{fmt.Sprint(m.ID), when(m.ReceivedAt), short(who(m.SenderName, m.SenderAddress), 26),
							short(m.Subject, 40), short(strings.Join(names, ", "), 44), filed})
				}
				c.table([]string{"NO.", "RECEIVED", "FROM", "SUBJECT", "ATTACHMENTS", ""}, rows)
				c.printf("\n%s in %s of “%s”", count(x.Total, "message"), x.Folder, m.Name)
				if x.Next != nil {
					c.printf(", %d looked at; older ones: --before %d", x.Looked, *x.Next)
				}
				fmt.Fprintln(c.out, ".")
			})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&folder, "folder", "", "path or role of the mail folder; the inbox by default")
	f.StringVar(&words, "text", "", "words that all stand in subject, sender or names of attachments")
	f.BoolVar(&attachments, "attachments", false, "only those with attachments")
	f.BoolVar(&unfiled, "unfiled", false, "only those from which nothing was filed")
	f.BoolVar(&unread, "unread", false, "only those that are unread")
	f.StringVar(&since, "since", "", "received on this day or later, such as 2026-05-12")
	f.StringVar(&until, "until", "", "received on this day or earlier")
	f.IntVar(&most, "most", 30, "how many")
	f.Int64Var(&before, "before", 0, "go on where the last list ended")
	return cmd
}

func numbersOf(args []string) ([]int64, error) {
	var all []int64
	for _, a := range args {
		n, err := numberOf(a, "message")
		if err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	return all, nil
}

// began says what a pass by hand does now, and how it is taken back.
func (c mailCommands) began(p *client.Pass, doing string) {
	c.printf("%s, as pass %d. Take it back: inktray passes undo %d\n", doing, p.ID, p.ID)
}

func (c mailCommands) mailFile() *cobra.Command {
	var cabinet, folder string
	var items []string
	var whole bool
	cmd := &cobra.Command{
		Use: "file NUMBER...", Short: "File messages' attachments by hand in a folder that you name",
		Args: cobra.MinimumNArgs(1),
		Example: "  inktray messages file 41 42 --cabinet \"harbour files\" --folder \"Sorted by hand/2026\"\n  inktray " +
			"messages file 41 --item 2 --folder Drawings",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			numbers, err := numbersOf(args)
			if err != nil {
				return err
			}
			if cabinet == "" {
				all, err := call[[]client.Cabinet](api.ListCabinets(ctx))
				if err != nil {
					return err
				}
				if len(all) != 1 {
					return usageError{errors.New("name the cabinet with --cabinet")}
				}
				cabinet = all[0].Name
			}
			if whole {
				items = append(items, "copy:eml")
			}
			if len(items) > 0 && len(numbers) > 1 && !(whole && len(items) == 1) {
				return usageError{errors.New("--item is for one message at a time")}
			}
			body := client.HandFiling{Cabinet: cabinet, Folder: folder}
			for _, n := range numbers {
				one := client.HandedMessage{Number: n}
				if len(items) > 0 {
					one.Items = &items
				}
				body.Messages = append(body.Messages, one)
			}
			p, err := call[client.Pass](api.FileByHand(ctx, body))
			if err != nil {
				return err
			}
			return c.show(p, func() {
				c.began(&p, fmt.Sprintf("%s being filed in “%s”, %s", count(p.Waiting+p.Filed+p.AlreadyThere, "file"), cabinet,
					folder))
			})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&cabinet, "cabinet", "", "the cabinet; may be left out where there is one only")
	f.StringVar(&folder, "folder", "", "the folder in it, such as \"Sorted by hand/2026\"; it is made if it is missing")
	f.StringSliceVar(&items, "item", nil, "number of an attachment, as messages why shows them; several may be named")
	f.BoolVar(&whole, "message", false, "the message itself, as .eml")
	return cmd
}

func (c mailCommands) mailChange() *cobra.Command {
	var label, unlabel, mark []string
	var move string
	cmd := &cobra.Command{
		Use: "change NUMBER...", Short: "Label, mark or move messages in their mailboxes", Args: cobra.MinimumNArgs(1),
		Example: "  inktray messages change 41 42 --label \"To file\"\n  inktray messages change 41 --mark read --move " +
			"Archive/2026",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			numbers, err := numbersOf(args)
			if err != nil {
				return err
			}
			body := client.HandChange{Messages: numbers}
			if len(label) > 0 {
				body.Label = &label
			}
			if len(unlabel) > 0 {
				body.RemoveLabel = &unlabel
			}
			if len(mark) > 0 {
				marks := []client.HandChangeMark{}
				for _, m := range mark {
					marks = append(marks, client.HandChangeMark(m))
				}
				body.Mark = &marks
			}
			if move != "" {
				body.Move = &move
			}
			p, err := call[client.Pass](api.ChangeByHand(ctx, body))
			if err != nil {
				return err
			}
			return c.show(p, func() { c.began(&p, fmt.Sprintf("%s: %s", count(p.Total, "message"), p.Note)) })
		}),
	}
	f := cmd.Flags()
	f.StringSliceVar(&label, "label", nil, "put this label on; several may be named")
	f.StringSliceVar(&unlabel, "remove-label", nil, "take this label off")
	f.StringSliceVar(&mark, "mark", nil, "read, unread, flagged or \"not flagged\"")
	f.StringVar(&move, "move", "", "move to this mail folder, which is made if it is missing")
	return cmd
}

func (c mailCommands) mailTakeIn() *cobra.Command {
	mailbox := ""
	cmd := &cobra.Command{
		Use:   "take-in FILE...",
		Short: "Import .eml and mbox files into a mailbox; rules then apply to them",
		Args:  cobra.MinimumNArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := c.forFiles(ctx, api, mailbox)
			if err != nil {
				return err
			}
			type result struct {
				File string `json:"file"`
				client.TakenIn
				Reason string `json:"reason,omitempty"`
			}
			results := []result{}
			failed := false
			for _, name := range args {
				one := result{File: name}
				var err error
				if one.TakenIn, err = takeIn(ctx, api, m.ID, name); err != nil {
					one.Reason, failed = inWords(err), true
				}
				if len(one.Refused) > 0 {
					one.Reason, failed = count(len(one.Refused), "message")+" refused", true
				}
				results = append(results, one)
			}
			err = c.show(results, func() {
				var rows [][]string
				for _, r := range results {
					rows = append(rows,
						[]string{filepath.Base(r.File), fmt.Sprint(r.Found), fmt.Sprint(r.Taken), fmt.Sprint(r.Known), r.Reason})
				}
				c.table([]string{"FILE", "FOUND", "TAKEN IN", "THERE BEFORE", "PROBLEM"}, rows)
				for _, r := range results {
					for _, one := range r.Refused {
						c.printf("%s: message %d, at byte %d, %s: %s\n", filepath.Base(r.File), one.Message, one.Offset,
							size(one.Size), one.Reason)
					}
				}
			})
			if err == nil && failed {
				err = &exitError{code: exitFailure}
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&mailbox, "mailbox", "", "which mailbox of files; the first by default")
	return cmd
}

// forFiles finds the mailbox into which files are taken in: the named one, or the first one of the kind "files".
func (c mailCommands) forFiles(ctx context.Context, api *client.Client, name string) (client.Mailbox, error) {
	if name != "" {
		return findMailbox(ctx, api, name)
	}
	all, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
	if err != nil {
		return client.Mailbox{}, err
	}
	for _, m := range all {
		if m.Kind == "files" {
			return m, nil
		}
	}
	return client.Mailbox{}, &exitError{exitFailure, "there is no mailbox of files yet; an administrator adds one: " +
		"inktray mailboxes add \"Mail from files\" --kind files"}
}

// takeIn sends one file.
func takeIn(ctx context.Context, api *client.Client, mailbox, name string) (client.TakenIn, error) {
	f, err := os.Open(name)
	if err != nil {
		return client.TakenIn{}, err
	}
	defer f.Close()
	return call[client.TakenIn](api.TakeInWithBody(ctx, mailbox, "application/octet-stream", io.Reader(f),
		func(_ context.Context, r *http.Request) error {
			if info, err := f.Stat(); err == nil {
				r.ContentLength = info.Size()
			}
			return nil
		}))
}
