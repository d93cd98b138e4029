package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/internal/api/client"
)

func numberOf(s, what string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, usageError{fmt.Errorf("%q is not the number of a %s", s, what)}
	}
	return n, nil
}

func (c *command) register() *cobra.Command {
	root := &cobra.Command{Use: "register", Short: "The list of all that was filed, numbered"}
	var text, ruleName, mailbox, folder, from, to string
	var most int
	list := &cobra.Command{
		Use: "list", Short: "List the register, the newest number first", Args: cobra.NoArgs,
		Example: "  inktray register list --text \"certificate corrin\" --from 2026-05-01",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			p := &client.ListRegisterParams{Most: &most}
			if text != "" {
				p.Text = &text
			}
			if folder != "" {
				p.Folder = &folder
			}
			if ruleName != "" {
				r, err := findRule(ctx, api, ruleName)
				if err != nil {
					return err
				}
				p.Rule = &r.ID
			}
			if mailbox != "" {
				m, err := findMailbox(ctx, api, mailbox)
				if err != nil {
					return err
				}
				p.Mailbox = &m.ID
			}
			if err := errors.Join(day("--from", from, &p.From), day("--to", to, &p.To)); err != nil {
				return err
			}
			page, err := call[client.RegisterPage](api.ListRegister(ctx, p))
			if err != nil {
				return err
			}
			return c.show(page, func() {
				var rows [][]string
				for _, f := range page.Filings {
					rows = append(rows, []string{f.Entry, when(f.ReceivedAt), short(who(f.SenderName, f.SenderAddress), 24), short(f.File, 44), f.Folder, size(f.Size)})
				}
				c.table([]string{"NO.", "RECEIVED", "FROM", "FILE", "FOLDER", "SIZE"}, rows)
				if page.Total > len(page.Filings) {
					fmt.Fprintf(c.out, "\n%d of %d; see more with --most, or narrow with --text.\n", len(page.Filings), page.Total)
				}
			})
		}),
	}
	list.Flags().StringVar(&text, "text", "", "words that all stand in number, subject, sender, file or folder")
	list.Flags().StringVar(&ruleName, "rule", "", "only what this rule filed")
	list.Flags().StringVar(&mailbox, "mailbox", "", "only what came to this mailbox")
	list.Flags().StringVar(&folder, "folder", "", "only this folder and what lies below it")
	list.Flags().StringVar(&from, "from", "", "received on this day or later")
	list.Flags().StringVar(&to, "to", "", "received on this day or earlier")
	list.Flags().IntVar(&most, "most", 30, "how many")
	var into string
	fetch := &cobra.Command{
		Use: "fetch NUMBER", Short: "Fetch a filed file", Args: cobra.ExactArgs(1), Example: "  inktray register fetch 2026-5731 --to plan.pdf",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			f, err := call[client.Filing](api.GetFiling(ctx, args[0]))
			if err != nil {
				return err
			}
			response, err := api.GetFile(ctx, args[0])
			if err != nil {
				return err
			}
			if response.StatusCode != 200 {
				_, err := call[nothing](response, nil)
				return err
			}
			defer response.Body.Close()
			if into == "-" {
				_, err := io.Copy(c.out, response.Body)
				return err
			}
			if into == "" {
				into = f.File
			}
			w, err := os.OpenFile(into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
			if errors.Is(err, os.ErrExist) {
				return &exitError{exitInvalid, fmt.Sprintf("%s is there already; choose another name with --to", into)}
			}
			if err != nil {
				return err
			}
			_, err = io.Copy(w, response.Body)
			if err := errors.Join(err, w.Close()); err != nil {
				return err
			}
			fmt.Fprintf(c.out, "%s is %s of %s.\n", into, f.Entry, f.Folder)
			return nil
		}),
	}
	fetch.Flags().StringVar(&into, "to", "", "name of the file to write, - for standard output; the filed name where nothing is said")
	root.AddCommand(list, fetch, &cobra.Command{
		Use: "show NUMBER", Short: "Show one filing", Args: cobra.ExactArgs(1), Example: "  inktray register show 2026-5731",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			f, err := call[client.Filing](api.GetFiling(ctx, args[0]))
			if err != nil {
				return err
			}
			return c.show(f, func() {
				c.table([]string{"NO.", f.Entry}, [][]string{{"file", f.File}, {"folder", f.Folder}, {"cabinet", f.Cabinet}, {"size", size(f.Size)}, {"SHA-256", f.Sha256}, {"rule", f.Rule},
					{"received", when(f.ReceivedAt)}, {"filed", when(f.FiledAt)}, {"from", strings.TrimSpace(f.SenderName + " <" + f.SenderAddress + ">")}, {"subject", f.Subject}, {"mailbox", f.Mailbox}, {"message", fmt.Sprint(f.Message)}})
			})
		}),
	})
	root.AddCommand(c.undo("undo NUMBER", "Take one filing back; without --yes it only says what would happen", "filing",
		func(ctx context.Context, api *client.Client, id int64) (client.UndoPreview, error) {
			return call[client.UndoPreview](api.PreviewUndoOfItem(ctx, id))
		}, func(ctx context.Context, api *client.Client, id int64) (client.Pass, error) {
			return call[client.Pass](api.UndoItem(ctx, id))
		}))
	return root
}

func (c *command) messages() *cobra.Command {
	root := &cobra.Command{Use: "messages", Short: "Messages that are known, and why something was filed or not"}
	var mailbox, words string
	var most int
	var unfiled, thorough bool
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
					rows = append(rows, []string{fmt.Sprint(m.ID), when(m.ReceivedAt), m.Mailbox, short(who(m.SenderName, m.SenderAddress), 28), short(m.Subject, 50), fmt.Sprint(m.Attachments)})
				}
				c.table([]string{"NO.", "RECEIVED", "MAILBOX", "FROM", "SUBJECT", "ATTACHMENTS"}, rows)
			})
		}),
	}
	list.Flags().StringVar(&mailbox, "mailbox", "", "only this mailbox")
	list.Flags().IntVar(&most, "most", 30, "how many")
	list.Flags().StringVar(&words, "text", "", "words that all stand in subject, sender or folder")
	list.Flags().BoolVar(&unfiled, "unfiled", false, "only those of which nothing was filed")
	why := &cobra.Command{
		Use: "why NUMBER", Short: "Say what was decided for a message, and what each rule makes of it", Args: cobra.ExactArgs(1),
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
				fmt.Fprintf(c.out, "“%s” from %s, received %s in %s, %s\n\n", x.Message.Subject, x.Message.SenderAddress, when(x.Message.ReceivedAt), x.Message.Mailbox, x.Message.Folder)
				var rows [][]string
				for _, i := range x.Decided {
					rows = append(rows, []string{deref(i.Rule), short(i.Name, 40), i.Verdict, strings.Trim(i.Path+"; "+i.Reason, "; ")})
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
					fmt.Fprintf(c.out, "\n%s of it taken back and not filed again: inktray messages file-again %d\n", count(x.Again, "file"), x.Message.ID)
				}
			})
		}),
	}
	why.Flags().BoolVar(&thorough, "thorough", false, "read what the verdicts hang on from the mail server: texts, archives")
	again := &cobra.Command{Use: "file-again NUMBER", Short: "File again what was taken back of a message", Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
		id, err := numberOf(args[0], "message")
		if err != nil {
			return err
		}
		n, err := call[client.Count](api.FileAgain(ctx, id))
		if err != nil {
			return err
		}
		return c.show(n, func() { fmt.Fprintf(c.out, "%s filed again.\n", count(n.Count, "item")) })
	})}
	root.AddCommand(list, why, again)
	return root
}

func (c *command) follow() *cobra.Command {
	return &cobra.Command{
		Use: "follow", Short: "Show what happens, as it happens", Args: cobra.NoArgs,
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
				fmt.Fprintf(c.out, "%s  %s\n", when(x.Message.ReceivedAt), x.Message.Subject)
				for _, i := range x.Decided {
					text := i.Path
					if i.Verdict != "filed" {
						text = i.Reason
					}
					fmt.Fprintf(c.out, "    %-10s %s: %s\n", i.Verdict, i.Name, text)
				}
			}
			if ctx.Err() != nil {
				return nil
			}
			return lines.Err()
		}),
	}
}
