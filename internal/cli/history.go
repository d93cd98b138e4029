package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func (c *command) pass(p *client.Pass) {
	if p.Kind == "undo" {
		c.printf("Pass %d takes back what was filed and is %s: %s taken back, %d left because somebody changed "+
			"them or they are gone.\n", p.ID, p.State, count(*p.TakenBack, "filing"), *p.Kept)
		if p.Note != "" {
			c.printf("%s.\n", strings.ToUpper(p.Note[:1])+p.Note[1:])
		}
		if deref(p.Again) > 0 {
			c.printf("To file it again: inktray passes file-again %d\n", p.ID)
		}
		return
	}
	c.printf("Pass %d (%s) is %s: %d of %s looked at, %d matched; %d filed, %d left out, %d already there, %d "+
		"held, %d failed.\n",
		p.ID, p.Kind, p.State, p.Looked, count(p.Total, "message"), p.Matched, p.Filed, p.LeftOut, p.AlreadyThere, p.Held,
		p.Failed)
	if deref(p.Unread) > 0 {
		c.printf("%s could not be read: inktray passes unread %d\n", count(*p.Unread, "message"), p.ID)
	}
	if deref(p.Gone) > 0 {
		c.printf("%s left the mailbox before Ink Tray read them.\n", count(*p.Gone, "message"))
	}
	if p.Held+p.Failed > 0 {
		c.println("Held and failed items wait in the tray: inktray tray list")
	}
	if p.Note != "" && p.State != "done" {
		fmt.Fprintln(c.out, p.Note)
	}
}

// passUnread names the messages that a pass could not read.
func (c historyCommands) passUnread() *cobra.Command {
	return &cobra.Command{Use: "unread NUMBER", Short: "The messages that a pass over old mail could not read, by name",
		Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "pass")
			if err != nil {
				return err
			}
			all, err := call[[]client.UnreadMessage](api.ListUnreadMessages(ctx, id))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				if len(all) == 0 {
					c.printf("Pass %d could read every message.\n", id)
					return
				}
				var rows [][]string
				for _, m := range all {
					subject := m.Subject
					if subject == "" {
						subject = "not known"
					}
					rows = append(rows,
						[]string{m.ID, m.Mailbox, m.Folder, fmt.Sprint(m.UID), short(subject, 40), string(m.State), m.Reason})
				}
				c.table([]string{"NO.", "MAILBOX", "FOLDER", "UID", "SUBJECT", "STATE", "REASON"}, rows)
				c.println("Try them again: inktray tray again NO.")
			})
		})}
}

// count says how many there are.
func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// day reads a day of an option.
func day(flag, value string, into **openapi_types.Date) error {
	if value == "" {
		return nil
	}
	d, err := time.Parse(time.DateOnly, value)
	if err != nil {
		return usageError{fmt.Errorf("%s is a day such as 2026-05-12, not %q", flag, value)}
	}
	*into = &openapi_types.Date{Time: d}
	return nil
}

func (c historyCommands) passes() *cobra.Command {
	root := &cobra.Command{Use: "passes", Aliases: []string{"history"},
		Short: "The history: each pass over messages, and " +
			"those under way"}

	root.AddCommand(c.passesList())

	root.AddCommand(c.passesOne("show", "Show one pass",
		func(ctx context.Context, api *client.Client, id int64) (client.Pass, error) {
			return call[client.Pass](api.GetPass(ctx, id))
		}), c.passesMessages(), c.passUnread(), c.passesOne("pause", "Pause a pass over old mail", c.passesSteer("paused")),
		c.passesOne("stop", "Stop a pass over old mail for good", c.passesSteer("stopped")),
		c.passesOne("go-on", "Go on with a paused pass", c.passesSteer("running")))
	root.AddCommand(c.passesFileAgain(), c.passesUndo())
	return root
}

func (c historyCommands) passesList() *cobra.Command {
	var kind string
	var ruleName string
	var mailbox string
	var from string
	var to string
	var matching bool
	var most int
	var w wide
	list := &cobra.Command{
		Use: "list", Short: "List the passes, the newest first", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			p := &client.ListPassesParams{Most: &most, Matching: &matching, Everywhere: w.asked()}
			if kind != "" {
				k := client.ListPassesParamsKind(kind)
				p.Kind = &k
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
			if err := day("--since", from, &p.From); err != nil {
				return err
			}
			if err := day("--until", to, &p.To); err != nil {
				return err
			}
			all, err := call[[]client.Pass](api.ListPasses(ctx, p))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, p := range all {
					what := p.Mailbox
					if p.Rule != "" {
						what = p.Rule
					}
					filed := fmt.Sprint(p.Filed)
					if p.Kind == "undo" {
						what, filed = fmt.Sprintf("pass %d", *p.Undoes), fmt.Sprintf("-%d", *p.TakenBack)
						if *p.Undoes == 0 {
							what = p.Note
						}
					}
					row := []string{fmt.Sprint(p.ID), string(p.Kind), what, string(p.State),
						fmt.Sprintf("%d of %d", p.Looked, p.Total), filed, fmt.Sprint(p.Held + p.Failed), when(p.StartedAt),
						took(p.Seconds), p.MadeBy}
					rows = append(rows, w.row(p.Machine, row...))
				}
				c.table(w.head("NO.", "KIND", "RULE OR MAILBOX", "STATE", "LOOKED AT", "FILED", "IN TRAY", "BEGAN", "TOOK",
					"BY"), rows)
			})
		}),
	}
	list.Flags().StringVar(&kind, "kind", "", "live, \"old mail\", undo, again, \"by hand\", verification or move")
	list.Flags().StringVar(&ruleName, "rule", "", "passes of this rule, or in which it filed something")
	list.Flags().StringVar(&mailbox, "mailbox", "", "passes over this mailbox")
	list.Flags().StringVar(&from, "since", "", "begun on this day or later")
	list.Flags().StringVar(&to, "until", "", "begun on this day or earlier")
	list.Flags().BoolVar(&matching, "matching", false, "only passes in which a rule applied to a message")
	list.Flags().IntVar(&most, "most", 50, "at most so many")
	w.flag(list)
	return list
}

func (c historyCommands) passesMessages() *cobra.Command {
	var onlyMatching bool
	var mostMessages int
	messages := &cobra.Command{Use: "messages NUMBER", Short: "List the messages of a pass with the decisions",
		Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "pass")
			if err != nil {
				return err
			}
			all, err := call[[]client.Decided](api.ListPassMessages(ctx, id,
				&client.ListPassMessagesParams{Matching: &onlyMatching, Most: &mostMessages}))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				for _, d := range all {
					c.printf("%d  %s, from %s\n", d.Message.ID, d.Message.Subject,
						who(d.Message.SenderName, d.Message.SenderAddress))
					for _, i := range d.Items {
						c.printf("    %s: %s %s\n", i.Name, i.Verdict, strings.TrimSpace(i.Path+"  "+i.Reason))
					}
					for _, s := range d.Steps {
						c.printf("    %s %s: %s %s\n", s.Kind, s.What, s.State, s.Reason)
					}
					if len(d.Items)+len(d.Steps) == 0 {
						c.printf("    no rule applied; inktray messages why %d says why\n", d.Message.ID)
					}
				}
			})
		})}
	messages.Flags().BoolVar(&onlyMatching, "matching", false, "only those to which a rule applied")
	messages.Flags().IntVar(&mostMessages, "most", 50, "at most so many")
	return messages
}

func (c historyCommands) passesOne(use, short string,
	do func(ctx context.Context, api *client.Client, id int64) (client.Pass, error)) *cobra.Command {
	return &cobra.Command{Use: use + " NUMBER", Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "pass")
			if err != nil {
				return err
			}
			p, err := do(ctx, api, id)
			if err != nil {
				return err
			}
			return c.show(p, func() { c.pass(&p) })
		})}
}

func (c historyCommands) passesSteer(to client.SteerRequestTo) func(ctx context.Context, api *client.Client,
	id int64) (client.Pass, error) {
	return func(ctx context.Context, api *client.Client, id int64) (client.Pass, error) {
		return call[client.Pass](api.SteerPass(ctx, id, client.SteerRequest{To: to}))
	}
}

func (c historyCommands) passesFileAgain() *cobra.Command {
	return &cobra.Command{Use: "file-again NUMBER", Short: "File again all that was taken back of a pass",
		Args: cobra.ExactArgs(1), RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := numberOf(args[0], "pass")
			if err != nil {
				return err
			}
			n, err := call[client.Count](api.FilePassAgain(ctx, id))
			if err != nil {
				return err
			}
			return c.show(n, func() { c.printf("%s filed again.\n", count(n.Count, "item")) })
		})}
}

func (c historyCommands) passesUndo() *cobra.Command {
	return c.undo("undo NUMBER", "Take back what a pass filed; without --yes it only says what would happen", "pass",
		func(ctx context.Context, api *client.Client, id int64) (client.UndoPreview, error) {
			return call[client.UndoPreview](api.PreviewUndoOfPass(ctx, id))
		}, func(ctx context.Context, api *client.Client, id int64) (client.Pass, error) {
			return call[client.Pass](api.UndoPass(ctx, id))
		})
}

// took says how long something took.
func took(seconds *float32) string {
	if seconds == nil {
		return ""
	}
	d := time.Duration(float64(*seconds) * float64(time.Second))
	if d >= time.Minute {
		return d.Round(time.Second).String()
	}
	return d.Round(10 * time.Millisecond).String()
}

// undo is a command that shows what taking back would do, and does it with --yes.
func (c historyCommands) undo(use, short, what string,
	look func(ctx context.Context, api *client.Client, id int64) (client.UndoPreview, error),
	do func(ctx context.Context, api *client.Client, id int64) (client.Pass, error)) *cobra.Command {
	yes := false
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			id, err := undoneNumber(ctx, api, args[0], what)
			if err != nil {
				return err
			}
			if yes {
				p, err := do(ctx, api, id)
				if err != nil {
					return err
				}
				return c.show(p, func() {
					c.printf("Pass %d takes it back. See how it goes: inktray passes show %d\n", p.ID, p.ID)
				})
			}
			p, err := look(ctx, api, id)
			if err != nil {
				return err
			}
			return c.show(p, func() {
				for _, l := range p.Lines {
					c.printf("%s: %s\n", l.Path, l.Reason)
				}
				c.printf("\n%s would be taken back, %d would stay.\n", count(p.Takes, "file"), p.Keeps)
				if p.Returns > 0 {
					c.printf("%s would be moved back to where they were.\n", count(p.Returns, "message"))
				}
				if p.Changes != nil {
					c.printf("It would be taken back: %s.\n", strings.Join(*p.Changes, "; "))
				}
				if len(p.Stays) > 0 {
					c.printf("What stays done: %s.\n", strings.Join(p.Stays, "; "))
				}
				c.println("Nothing was changed. To do it, add --yes.")
			})
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it")
	return cmd
}

// undoneNumber reads the number of a pass, or finds the item of a number of the register.
func undoneNumber(ctx context.Context, api *client.Client, arg, what string) (int64, error) {
	if what == "pass" {
		return numberOf(arg, what)
	}
	f, err := call[client.Story](api.GetFiling(ctx, arg))
	if err != nil {
		return 0, err
	}
	return *f.Filing.Item, nil
}

func (c historyCommands) tray() *cobra.Command {
	root := &cobra.Command{Use: "tray", Short: "The tray: items that wait for a person"}
	root.AddCommand(c.trayList())

	var cabinet, folder, note string

	root.AddCommand(c.trayAnswer(),
		c.traySeveral("again", "Try again, under the rules as they are now; only what failed is redone", "%d tried again.",
			func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error) {
				return call[client.Count](api.TryAgain(ctx, client.TrayRequest{Matters: matters, Cause: cause}))
			}, nil), c.traySeveral("release", "Release held items: file them where their rule says", "%d released.",
			func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error) {
				return call[client.Count](api.ReleaseHeld(ctx, client.TrayRequest{Matters: matters, Cause: cause}))
			}, nil), c.traySeveral("elsewhere", "File items as they are in a folder that you name", "%d filed elsewhere.",
			func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error) {
				return call[client.Count](api.FileElsewhere(ctx,
					client.ElsewhereRequest{Matters: matters, Cause: cause, Cabinet: cabinet, Folder: folder}))
			}, func(cmd *cobra.Command) {
				cmd.Flags().StringVar(&cabinet, "cabinet", "", "the cabinet")
				cmd.Flags().StringVar(&folder, "folder", "", "the folder in it, such as \"Sorted by hand/2026\"")
			}), c.traySeveral("refile", "File what is missing from a cabinet once more, from its message", "%d filed again.",
			func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error) {
				return call[client.Count](api.FileMissingAgain(ctx, client.TrayRequest{Matters: matters, Cause: cause}))
			}, nil), c.traySeveral("aside", "Set items aside; Ink Tray files nothing of them", "%d set aside.",
			func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error) {
				return call[client.Count](api.SetAside(ctx, client.AsideRequest{Matters: matters, Cause: cause, Note: &note}))
			}, func(cmd *cobra.Command) {
				cmd.Flags().StringVar(&note, "note", "", "why, for those who look later")
			}))
	return root
}

func (c historyCommands) traySeveral(use, short, done string,
	do func(ctx context.Context, api *client.Client, matters *[]string, cause *string) (client.Count, error),
	flags func(*cobra.Command)) *cobra.Command {
	all, cause := false, ""
	cmd := &cobra.Command{Use: use + " NUMBER...", Short: short,
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if all {
				t, err := call[client.Tray](api.ListTray(ctx, &client.ListTrayParams{}))
				if err != nil {
					return err
				}
				for _, g := range t.Groups {
					for _, m := range g.Matters {
						args = append(args, m.ID)
					}
				}
			}
			if len(args) == 0 && cause == "" {
				return usageError{errors.New("name lines of the tray by their numbers, or use --cause or --all")}
			}
			var of *string
			if cause != "" {
				of = &cause
			}
			n, err := do(ctx, api, &args, of)
			if err != nil {
				return err
			}
			return c.show(n, func() { fmt.Fprintf(c.out, c.texts.Format(done)+"\n", n.Count) })
		})}
	cmd.Flags().BoolVar(&all, "all", false, "everything that is listed")
	cmd.Flags().StringVar(&cause, "cause", "", "everything of one cause, as tray list names it")
	if flags != nil {
		flags(cmd)
	}
	return cmd
}

func (c historyCommands) trayAnswer() *cobra.Command {
	var which sort
	answer := &cobra.Command{
		Use: "answer NUMBER...", Short: "Answer whether items are about the topic in doubt: the topic learns from that, " +
			"and files or leaves it", Args: cobra.MinimumNArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			about, err := which.said()
			if err != nil {
				return err
			}
			n, err := call[client.Count](api.AnswerTopics(ctx, client.AnswerRequest{Matters: args, About: about}))
			if err != nil {
				return err
			}
			return c.show(n, func() { c.printf("Learned, and %s decided.\n", count(n.Count, "item")) })
		}),
	}
	which.add(answer, "it is about it", "it is not")
	return answer
}

func (c historyCommands) trayList() *cobra.Command {
	var w wide
	cmd := &cobra.Command{
		Use: "list", Short: "List what waits, grouped by reason, with what you can do", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			t, err := call[client.Tray](api.ListTray(ctx, &client.ListTrayParams{Everywhere: w.asked()}))
			if err != nil {
				return err
			}
			return c.show(t, func() {
				c.missing(t.Missing)
				if t.Count == 0 {
					c.println("The tray is empty. Nothing waits for you.")
					return
				}
				for _, n := range t.Notices {
					if n.Machine != nil {
						c.printf("%s: ", *n.Machine)
					}
					c.printf("%s %s\n\n", n.Text, n.Advice)
				}
				for _, g := range t.Groups {
					if g.Machine != nil {
						c.printf("%s: ", *g.Machine)
					}
					c.printf("%s (%d, cause %q)\n%s\n", g.Title, g.Count, g.Cause, g.Help)
					var rows [][]string
					for _, m := range g.Matters {
						subject := ""
						if m.Message != nil {
							subject = m.Message.Subject
						}
						rows = append(rows, []string{m.ID, short(m.Name, 30), short(subject, 36), m.Reason})
					}
					c.table([]string{"NO.", "WHAT", "MESSAGE", "REASON"}, rows)
					if slices.Contains(g.Ways, client.TrayGroupWaysAnswer) && !w.everywhere {
						c.printf("Answer: inktray tray answer %s --about, or --not-about\n", g.Matters[0].ID)
					}
					fmt.Fprintln(c.out)
				}
				if w.everywhere && t.Count > 0 {
					c.println("To decide items that wait at another machine, use --at, such as: inktray --at NAME tray again NO.")
				}
			})
		}),
	}
	w.flag(cmd)
	return cmd
}
