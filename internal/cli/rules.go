package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/rule"
)

// mostPiped is how many octets are read from standard input.
const mostPiped = 64 << 20

// readFile reads a file, or what is piped in where its name is "-". That can be read once.
func (c *command) readFile(name string) ([]byte, error) {
	if name != "-" {
		return os.ReadFile(name)
	}
	if c.piped {
		return nil, usageError{errors.New("standard input is read once; give the other one as a file")}
	}
	c.piped = true
	return piped(c.in)
}

// piped reads standard input to its end.
func piped(in io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(in, mostPiped+1))
	if err == nil && len(data) > mostPiped {
		err = usageError{fmt.Errorf("standard input has more than %s", size(mostPiped))}
	}
	return data, err
}

// readRules reads a file of rules, telling mistakes with their lines.
func (c *command) readRules(name string) ([]rule.Rule, error) {
	data, err := c.readFile(name)
	if err != nil {
		return nil, err
	}
	document, err := rule.Parse(data)
	if err != nil {
		return nil, fileProblems(name, err)
	}
	return document.Rules, nil
}

func fileProblems(name string, err error) error {
	problems, ok := err.(rule.Problems)
	if !ok {
		return err
	}
	var lines []string
	for _, p := range problems {
		line := fmt.Sprintf("%s: %s", name, p.Text)
		if p.Line > 0 {
			line = fmt.Sprintf("%s, line %d: %s", name, p.Line, p.Text)
		}
		if p.Place != "" {
			line += " (at " + p.Place + ")"
		}
		if p.Meant != "" {
			line += fmt.Sprintf("; did you mean “%s”?", p.Meant)
		}
		lines = append(lines, line)
	}
	return &exitError{exitInvalid, strings.Join(lines, "\n  ")}
}

// saveRule keeps a rule as it is in a file; there are the rules as they are.
func saveRule(ctx context.Context, api *client.Client, r *rule.Rule, there []client.Rule) (client.Rule, error) {
	at := ruleAt(r, there)
	if at >= 0 {
		r.ID = there[at].ID
	}
	body, err := json.Marshal(r)
	if err != nil {
		return client.Rule{}, err
	}
	saved, err := call[client.Rule](api.AddRule(ctx, body))
	var p *problem
	if errors.As(err, &p) && p.Status == 412 && at >= 0 {
		return saved, &exitError{exitInvalid, fmt.Sprintf("it was changed since this file was made: the file is from "+
			"revision %d, and the rule has revision %d. The file and the rule differ so:\n  %s\nMake your change in a file of "+
			"the present state (inktray rules export %s), or take the line “revision” out of the file to write over it",
			r.Revision, there[at].Revision, strings.ReplaceAll(differences(there[at].Document, body), "\n", "\n  "),
			inShell(there[at].Name))}
	}
	return saved, err
}

// saveOrLeave saves a rule unless it is as the document says already, and says in words what it did.
func saveOrLeave(ctx context.Context, api *client.Client, r *rule.Rule, there []client.Rule) (client.Rule, string,
	error) {
	at := ruleAt(r, there)
	changed := ""
	if at >= 0 {
		r.ID = there[at].ID
		plain := *r
		plain.Revision = 0
		body, err := json.Marshal(&plain)
		if err != nil {
			return client.Rule{}, "", err
		}
		if changed = differences(there[at].Document, body); changed == "" {
			changed = "the order of its lines"
		}
		if sameRule(there[at].Document, body) {
			return there[at], fmt.Sprintf("“%s” is as the file says already (revision %d).", r.Name, there[at].Revision), nil
		}
	}
	saved, err := saveRule(ctx, api, r, there)
	switch {
	case err != nil:
		return saved, "", err
	case at < 0:
		return saved, fmt.Sprintf("“%s” is new, and off. Switch it on: inktray rules on %s\n  %s", saved.Name,
			inShell(saved.Name), saved.Sentence), nil
	}
	return saved, fmt.Sprintf("“%s” has changed, and is revision %d now:\n  %s", saved.Name, saved.Revision,
		strings.ReplaceAll(changed, "\n", "\n  ")), nil
}

// sameRule says whether two documents are the same rule; revisions do not count.
func sameRule(is, wanted []byte) bool {
	var texts [2]string
	for i, document := range [][]byte{is, wanted} {
		r, err := rule.ParseRule(document)
		if err != nil {
			return false
		}
		r.Revision = 0
		text, err := rule.YAML(r)
		if err != nil {
			return false
		}
		texts[i] = string(text)
	}
	return texts[0] == texts[1]
}

// ruleAt is where a rule is among those that are there, by its id, else by its name; -1 where it is new.
func ruleAt(r *rule.Rule, there []client.Rule) int {
	return slices.IndexFunc(there, func(is client.Rule) bool {
		return r.ID != "" && is.ID == r.ID || r.ID == "" && strings.EqualFold(is.Name, r.Name)
	})
}

func (c ruleCommands) rules() *cobra.Command {
	root := &cobra.Command{Use: "rules", Short: "What to look for, what to take, and where to file it"}
	yes := false

	root.AddCommand(c.rulesList(), c.rulesShow(), c.rulesOff(), c.rulesOne("remove", "Remove a rule; the command "+
		"first says what remains",
		func(ctx context.Context, api *client.Client, r client.Rule) error {
			remains, err := call[client.Remains](api.GetRemains(ctx, r.ID))
			if err != nil {
				return err
			}
			c.tellf("What remains of “%s”: %d filings with their files, %d items in the tray. %d planned items "+
				"are not filed.\n", r.Name, remains.Filed, remains.Waiting, remains.Dropped)
			if len(remains.SeesMore) > 0 {
				c.tellf("These rules then see more messages: %s.\n", strings.Join(remains.SeesMore, ", "))
			}
			if !yes {
				if answer, err := c.ask("Remove it? Type yes: "); err != nil {
					return usageError{errors.New("add --yes to confirm: this command is not running in a terminal")}
				} else if answer != "yes" {
					return &exitError{exitFailure, "nothing was changed"}
				}
			}
			if _, err := call[nothing](api.RemoveRule(ctx, r.ID)); err != nil {
				return err
			}
			c.printf("“%s” is removed. Its %d filings stay.\n", r.Name, r.Filed)
			return nil
		}), c.rulesSave(), c.rulesOrder(), &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of the rule document", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return c.json(rule.Schema()) },
	}, c.rehearse(), c.fileOldMail(), c.switchOn())
	root.AddCommand(c.careCommands()...)
	for _, cmd := range root.Commands() {
		if cmd.Name() == "remove" {
			cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
		}
	}
	return root
}

func (c ruleCommands) rulesOne(use, short string,
	do func(ctx context.Context, api *client.Client, r client.Rule) error) *cobra.Command {
	return &cobra.Command{Use: use + " NAME", Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			return do(ctx, api, r)
		})}
}

func (c ruleCommands) rulesList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the rules in their order", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Rule](api.ListRules(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, r := range all {
					state := "no"
					if r.Running {
						state = "yes"
					}
					rows = append(rows,
						[]string{fmt.Sprint(r.Place), r.Name, state, fmt.Sprint(r.Filed), whenOr(r.LastFiledAt, "never"),
							fmt.Sprint(r.Revision)})
				}
				c.table([]string{"NO.", "NAME", "ON", "FILED", "LAST", "REVISION"}, rows)
			})
		}),
	}
}

func (c ruleCommands) rulesShow() *cobra.Command {
	return c.rulesOne("show", "Show a rule as a sentence and as its document",
		func(_ context.Context, _ *client.Client, r client.Rule) error {
			return c.show(r, func() {
				fmt.Fprintln(c.out, "# "+strings.ReplaceAll(wrap(r.Sentence, 98), "\n", "\n# "))
				if document, err := rule.ParseRule(r.Document); err == nil {
					document.Revision = r.Revision
					if text, err := rule.YAML(rule.Document{Format: rule.Format, Rules: []rule.Rule{*document}}); err == nil {
						_, _ = c.out.Write(text)
					}
				}
			})
		})
}

func (c ruleCommands) rulesOff() *cobra.Command {
	return c.rulesOne("off", "Stop a rule; what was begun is finished",
		func(ctx context.Context, api *client.Client, r client.Rule) error {
			r, err := call[client.Rule](api.SwitchRuleOff(ctx, r.ID))
			if err != nil {
				return err
			}
			return c.show(r, func() { c.printf("“%s” is off.\n", r.Name) })
		})
}

func (c ruleCommands) rulesSave() *cobra.Command {
	return &cobra.Command{
		Use: "save FILE", Short: "Save the rules of a file; new ones are off", Args: cobra.ExactArgs(1),
		Long: "Saves each rule of the file. Ink Tray recognises a rule by its id, else by its name. It changes an " +
			"existing rule to what the file says, leaves it on or off, and says what changed. You can repeat the command: a " +
			"rule that is already as the file says stays as it is. A file that names the revision it was made from, such as " +
			"one of inktray rules export, does not overwrite a rule that has changed since.\n\nSee also: rules import asks " +
			"whether a new name is a renamed rule, and has --preview. apply sets mailboxes, cabinets, topics and rules " +
			"together, from one file.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			rules, err := c.readRules(args[0])
			if err != nil {
				return err
			}
			var saved []client.Rule
			var told []string
			there, err := call[[]client.Rule](api.ListRules(ctx))
			if err != nil {
				return err
			}
			for i := range rules {
				r, what, err := saveOrLeave(ctx, api, &rules[i], there)
				if err != nil {
					return fmt.Errorf("the rule “%s”: %w", rules[i].Name, err)
				}
				saved, told = append(saved, r), append(told, what)
			}
			return c.show(saved, func() {
				for i := range saved {
					c.println(told[i])
				}
			})
		}),
	}
}

func (c ruleCommands) rulesOrder() *cobra.Command {
	return &cobra.Command{
		Use: "order NAME...", Short: "Put rules into an order; those not named follow", Args: cobra.MinimumNArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			var ids []string
			for _, name := range args {
				r, err := findRule(ctx, api, name)
				if err != nil {
					return err
				}
				ids = append(ids, r.ID)
			}
			was := []string{}
			seen, err := call[[]client.Rule](api.ListRules(ctx))
			if err != nil {
				return err
			}
			for _, r := range seen {
				was = append(was, r.ID)
			}
			all, err := call[[]client.Rule](api.OrderRules(ctx, client.RuleOrder{Ids: ids, Was: &was}))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				for _, r := range all {
					c.printf("%d. %s\n", r.Place, r.Name)
				}
			})
		}),
	}
}

// mostRehearsed is how many messages a rehearsal can show.
var mostRehearsed = 50_000

// rehearsalFlags say which messages are rehearsed, and how.
type rehearsalFlags struct {
	last          int
	message       int64
	since, until  string
	thorough, all bool
}

func (f *rehearsalFlags) params() (p client.RehearseRuleParams, err error) {
	if f.last > 0 {
		p.Last = &f.last
	}
	if f.message > 0 {
		p.Message = &f.message
	}
	if f.thorough {
		p.Thorough = &f.thorough
	}
	if f.all {
		p.Show = &mostRehearsed
	}
	if f.since != "" {
		if p.Since, err = dayOf("--since", f.since); err != nil {
			return p, err
		}
	}
	if f.until != "" {
		if p.Until, err = dayOf("--until", f.until); err != nil {
			return p, err
		}
	}
	return p, nil
}

// documents are the rules that are named, or those of a file.
func (c ruleCommands) documents(ctx context.Context, api *client.Client, from string) (documents []json.RawMessage,
	err error) {
	if _, statErr := os.Stat(from); statErr == nil || from == "-" {
		rules, err := c.readRules(from)
		if err != nil {
			return nil, err
		}
		for i := range rules {
			body, err := json.Marshal(&rules[i])
			if err != nil {
				return nil, err
			}
			documents = append(documents, body)
		}
	} else {
		r, err := findRule(ctx, api, from)
		if err != nil {
			return nil, err
		}
		documents = append(documents, json.RawMessage(r.Document))
	}
	return documents, nil
}

func (c ruleCommands) rehearse() *cobra.Command {
	var f rehearsalFlags
	cmd := &cobra.Command{
		Use: "rehearse [NAME|FILE]", Short: "Rehearse: show what a rule, or all that are on, would do; files nothing",
		Args: cobra.MaximumNArgs(1),
		Long: "Shows for each message whether the rule applies, and for each attachment the exact path that it would get " +
			"or why it is left out; then the folders as they would be. Name a rule, or give a file with one; without " +
			"either, all rules that are on are rehearsed together.\nWithout --last, --since, --until or --message, Ink Tray " +
			"looks at the last 50 known messages, and at 10 more that match. With --thorough it also reads texts and " +
			"archives if the decision depends on them.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			p, err := f.params()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				r, err := call[client.Rehearsal](api.RehearseAll(ctx,
					&client.RehearseAllParams{Last: p.Last, Since: p.Since, Until: p.Until, Message: p.Message, Thorough: p.Thorough,
						Show: p.Show}))
				if err != nil {
					return err
				}
				return c.show(r, func() { c.rehearsal(&r) })
			}
			documents, err := c.documents(ctx, api, args[0])
			if err != nil {
				return err
			}
			for _, document := range documents {
				r, err := call[client.Rehearsal](api.RehearseRule(ctx, &p, document))
				if err != nil {
					return err
				}
				if err := c.show(r, func() { c.rehearsal(&r) }); err != nil {
					return err
				}
			}
			return nil
		}),
	}
	cmd.Flags().IntVar(&f.last, "last", 0,
		"the last so many messages of each folder, asked of the server where they are not known")
	cmd.Flags().StringVar(&f.since, "since", "", "messages received on this day or later, such as 2026-05-12")
	cmd.Flags().StringVar(&f.until, "until", "", "messages received on this day or earlier")
	cmd.Flags().Int64Var(&f.message, "message", 0, "one message, by its number (inktray messages list)")
	cmd.Flags().BoolVar(&f.thorough, "thorough", false, "read texts and archives from the mail server if the decision "+
		"depends on them")
	cmd.Flags().BoolVar(&f.all, "all", false, "show every message that was looked at, not 200 at most")
	return cmd
}

func (c ruleCommands) rehearsal(r *client.Rehearsal) {
	fmt.Fprintln(c.out, wrap(r.Sentence, 100))
	fmt.Fprintln(c.out)
	var rows [][]string
	for _, m := range r.Messages {
		if !m.Matches && m.Answer == "no" {
			continue
		}
		rows = append(rows,
			[]string{when(m.Message.ReceivedAt), short(m.Message.Subject, 44),
				string(map[bool]string{true: "matches", false: string(m.Answer)}[m.Matches]), m.Reason})
		for _, i := range m.Items {
			text := i.Path
			if i.Verdict != "filed" {
				text = i.Reason
			} else if deref(i.Clash) != "" {
				text += "  (" + *i.Clash + ")"
			}
			rows = append(rows, []string{"", "  " + short(i.Name, 42), i.Verdict, text})
			for _, v := range values(i.Values) {
				rows = append(rows, []string{"", "", "", "  " + v[0] + ": " + v[1]})
			}
		}
	}
	c.table([]string{"RECEIVED", "MESSAGE, ATTACHMENT", "VERDICT", "PATH OR REASON"}, rows)
	if len(r.Tree) > 0 {
		fmt.Fprintln(c.out)
		var folders [][]string
		for _, f := range r.Tree {
			folders = append(folders, []string{fmt.Sprint(f.Files), size(f.Bytes), f.Folder})
		}
		c.table([]string{"FILES", "ABOUT", "FOLDER AS IT WOULD BE"}, folders)
	}
	for _, w := range r.Warnings {
		c.printf("\nNote: %s", strings.ToUpper(w.Text[:1])+strings.TrimSuffix(w.Text[1:], ".")+".")
	}
	if len(r.Warnings) > 0 {
		fmt.Fprintln(c.out)
	}
	if r.Unsettled > 0 {
		c.printf("\nFor %d messages Ink Tray has to read more before it can decide; --thorough reads it.\n", r.Unsettled)
	}
	c.printf("\nOf %s %d match; %s would be filed, about %s; names that are taken: %d; messages that "+
		"do not match: %d. Nothing was written.\n", count(r.Looked, "message"), r.Matching, count(r.Files, "file"),
		size(r.Bytes), r.Clashes, r.Looked-r.Matching-r.Unsettled)
	if r.NotShown > 0 {
		c.printf("%d of these messages, with %d of the files, are not shown above; --all shows them.\n", r.NotShown,
			r.FilesNotShown)
	}
}

func (c ruleCommands) fileOldMail() *cobra.Command {
	var flags oldMailFlags
	var away bool
	cmd := &cobra.Command{
		Use: "file-old-mail NAME", Short: "File the mail that is in a rule's folders already", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			request, err := flags.request()
			if err != nil {
				return err
			}
			p, err := call[client.Pass](api.FileOldMail(ctx, r.ID, request))
			if err != nil {
				return err
			}
			if away {
				return c.show(p,
					func() { c.printf("Pass %d has begun. See how it goes: inktray passes show %d\n", p.ID, p.ID) })
			}
			return c.await(ctx, api, p)
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&away, "do-not-wait", false, "return at once; the pass goes on")
	return cmd
}

// await looks on until a pass has ended. The pass goes on when the looker leaves.
func (c ruleCommands) await(ctx context.Context, api *client.Client, p client.Pass) error {
	bar := &progress{c: c.command}
	defer bar.end()
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for p.State == "running" || p.Waiting > 0 && p.State == "done" {
		text := fmt.Sprintf("%d filed", p.Filed)
		if p.SecondsLeft != nil {
			text += fmt.Sprintf(", about %s left", (time.Duration(*p.SecondsLeft) * time.Second).String())
		}
		if p.Note != "" {
			text += ", " + p.Note
		}
		bar.draw(p.Looked, p.Total, text)
		select {
		case <-ctx.Done():
			bar.end()
			return &exitError{exitFailure,
				fmt.Sprintf("no longer looking on; pass %d goes on by itself (inktray passes stop %d)", p.ID, p.ID)}
		case <-tick.C:
		}
		var err error
		if p, err = call[client.Pass](api.GetPass(ctx, p.ID)); err != nil {
			return err
		}
	}
	bar.draw(p.Looked, p.Total, fmt.Sprintf("%d filed", p.Filed))
	bar.end()
	bar.drawn = false
	if err := c.show(p, func() { c.pass(&p) }); err != nil {
		return err
	}
	if p.State == "failed" {
		return &exitError{exitFailure, p.Note}
	}
	return nil
}
