package cli

import (
	"bufio"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func numberOf(s, what string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, usageError{fmt.Errorf("%q is not the number of a %s", s, what)}
	}
	return n, nil
}

func (c mailCommands) messages() *cobra.Command {
	root := &cobra.Command{Use: "messages", Short: "Messages that are known, and why something was filed or not"}

	root.AddCommand(c.messagesList(), c.messagesWhy(), c.messagesAgain(), c.messagesRead())
	c.mailByHand(root)
	return root
}

func (c mailCommands) messagesList() *cobra.Command {
	var mailbox string
	var words string
	var most int
	var unfiled bool
	list := &cobra.Command{
		Use: "list", Short: "List the messages, the last received first", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			p := &client.ListMessagesParams{Most: &most, Text: &words, Unfiled: &unfiled}
			if mailbox != "" {
				m, err := findMailbox(ctx, api, mailbox)
				if err != nil {
					return err
				}
				p.Mailbox = &m.ID
			}
			all, err := call[[]client.Message](api.ListMessages(ctx, p))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, m := range all {
					rows = append(rows,
						[]string{fmt.Sprint(m.ID), when(m.ReceivedAt), m.Mailbox, short(who(m.SenderName, m.SenderAddress), 28),
							short(m.Subject, 50), fmt.Sprint(m.Attachments)})
				}
				c.table([]string{"NO.", "RECEIVED", "MAILBOX", "FROM", "SUBJECT", "ATTACHMENTS"}, rows)
			})
		}),
	}
	list.Flags().StringVar(&mailbox, "mailbox", "", "only this mailbox")
	list.Flags().IntVar(&most, "most", 30, "how many")
	list.Flags().StringVar(&words, "text", "", "words that all stand in subject, sender or folder")
	list.Flags().BoolVar(&unfiled, "unfiled", false, "only those from which nothing was filed")
	return list
}

func (c mailCommands) messagesWhy() *cobra.Command {
	var thorough bool
	why := &cobra.Command{
		Use: "why NUMBER", Aliases: []string{"show"}, Short: "Show what was decided for a message, and why",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "message")
			if err != nil {
				return err
			}
			x, err := call[client.Explanation](api.ExplainMessage(ctx, id, &client.ExplainMessageParams{Thorough: &thorough}))
			if err != nil {
				return err
			}
			return c.show(x, func() {
				c.printf("“%s” from %s, received %s%s in %s, %s\n\n", x.Message.Subject, x.Message.SenderAddress,
					when(x.Message.ReceivedAt), receivedAs(x.Message.ReceivedFrom), x.Message.Mailbox, x.Message.Folder)
				if x.Remark != nil {
					c.printf("%s\n\n", *x.Remark)
				}
				var rows [][]string
				for _, i := range x.Decided {
					rows = append(rows,
						[]string{deref(i.Rule), short(i.Name, 40), i.Verdict, strings.Trim(i.Path+"; "+i.Reason, "; ")})
				}
				if len(rows) > 0 {
					c.table([]string{"DECIDED BY", "ATTACHMENT", "VERDICT", "PATH AND REASON"}, rows)
					fmt.Fprintln(c.out)
				}
				rows = nil
				for _, r := range x.Rules {
					reason := r.Reason
					switch {
					case r.Off:
						r.Answer, reason = "", "the rule is off"
					case !r.Looks:
						r.Answer, reason = "", "the rule does not look into this mailbox or folder"
					case r.Note != "":
						reason += "; but " + r.Note
					}
					rows = append(rows, []string{r.Rule, r.Answer, reason})
				}
				c.table([]string{"RULE", "IS FOR IT", "BECAUSE"}, rows)
				if len(x.Steps) > 0 {
					rows = nil
					for _, s := range x.Steps {
						rows = append(rows, []string{deref(s.Rule), strings.TrimSpace(string(s.Kind) + " " + s.What), s.State, s.Reason})
					}
					fmt.Fprintln(c.out)
					c.table([]string{"AFTERWARDS", "", "", ""}, rows)
				}
				if x.Again > 0 {
					c.printf("\n%s of it taken back and not filed again: inktray messages file-again %d\n",
						count(x.Again, "file"), x.Message.ID)
				}
			})
		}),
	}
	why.Flags().BoolVar(&thorough, "thorough", false,
		"read texts and archives from the mail server if the decision depends on them")
	return why
}

func (c mailCommands) messagesAgain() *cobra.Command {
	again := &cobra.Command{Use: "file-again NUMBER", Short: "File again what was taken back of a message",
		Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "message")
			if err != nil {
				return err
			}
			n, err := call[client.Count](api.FileAgain(ctx, id))
			if err != nil {
				return err
			}
			return c.show(n, func() { c.printf("%s filed again.\n", count(n.Count, "item")) })
		})}
	return again
}

func (c mailCommands) messagesRead() *cobra.Command {
	return &cobra.Command{
		Use: "read NUMBER", Short: "Read a message as text, from its mailbox", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "message")
			if err != nil {
				return err
			}
			m, err := call[client.Reading](api.ReadMessage(ctx, id))
			if err != nil {
				return err
			}
			return c.show(m, func() { fmt.Fprintln(c.out, strings.TrimRight(visible(m.Text), "\n")) })
		}),
	}
}

func (c mailCommands) follow() *cobra.Command {
	return &cobra.Command{
		Use: "follow", Short: "Show what happens while it happens", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			response, err := api.GetEvents(ctx)
			if err != nil {
				return err
			}
			defer response.Body.Close()
			if response.StatusCode != 200 {
				_, err := call[nothing](response, nil)
				return err
			}
			lines := bufio.NewScanner(response.Body)
			for lines.Scan() {
				data, ok := strings.CutPrefix(lines.Text(), "data: ")
				if !ok {
					continue
				}
				if c.format == "json" {
					fmt.Fprintln(c.out, data)
					continue
				}
				_, rest, found := strings.Cut(data, `"kind":"message","id":"`)
				if !found {
					continue
				}
				number, _, _ := strings.Cut(rest, `"`)
				id, err := strconv.ParseInt(number, 10, 64)
				if err != nil {
					continue
				}
				x, err := call[client.Explanation](api.ExplainMessage(ctx, id, &client.ExplainMessageParams{}))
				if err != nil {
					return err
				}
				c.printf("%s  %s\n", when(x.Message.ReceivedAt), x.Message.Subject)
				for _, i := range x.Decided {
					text := i.Path
					if i.Verdict != "filed" {
						text = i.Reason
					}
					c.printf("    %-10s %s: %s\n", i.Verdict, i.Name, text)
				}
			}
			if ctx.Err() != nil {
				return nil
			}
			return lines.Err()
		}),
	}
}
