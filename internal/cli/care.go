package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/rule"
)

// oldMailFlags are the options of a pass over old mail.
type oldMailFlags struct {
	since, from, to string
	most, perMinute int
}

func (f *oldMailFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.since, "since", "", "only what was received on this day or later, such as 2026-05-12")
	cmd.Flags().IntVar(&f.most, "most", 0, "only so many of the most recent messages of each folder")
	cmd.Flags().IntVar(&f.perMinute, "per-minute", 0, "at most so many messages a minute")
	cmd.Flags().StringVar(&f.from, "from-time", "", "only from this time of the day on, such as 19:00")
	cmd.Flags().StringVar(&f.to, "to-time", "", "and until this one, such as 06:00")
}

func (f *oldMailFlags) request() (client.OldMailRequest, error) {
	var r client.OldMailRequest
	if f.since != "" {
		day, err := dayOf("--since", f.since)
		if err != nil {
			return r, err
		}
		r.Since = day
	}
	if f.most > 0 {
		r.Most = &f.most
	}
	if f.perMinute > 0 {
		r.PerMinute = &f.perMinute
	}
	if f.from != "" {
		r.From = &f.from
	}
	if f.to != "" {
		r.To = &f.to
	}
	return r, nil
}

func dayOf(flag, s string) (*openapi_types.Date, error) {
	day, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return nil, usageError{fmt.Errorf("%s is a day such as 2026-05-12, not %q", flag, s)}
	}
	return &openapi_types.Date{Time: day}, nil
}

// switchOn asks from where on a rule is to take mail.
func (c ruleCommands) switchOn() *cobra.Command {
	var begin string
	cmd := &cobra.Command{
		Use: "on NAME", Short: "Switch a rule on: for new mail only, or also for the mail that is there",
		Args: cobra.ExactArgs(1),
		Long: "Say which mail the rule should file: --begin now for new mail, --begin all for new mail and everything " +
			"already in its folders, or a day such as --begin 2026-05-12 for mail received since that day. Without it, the " +
			"command asks you.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			if begin == "" {
				if begin, err = c.ask(fmt.Sprintf("Which mail should “%s” file? Type now, all, or a day such as 2026-05-12: ",
					r.Name)); err != nil {
					return usageError{errors.New("choose which mail the rule should file: --begin now, --begin all, or " +
						"--begin 2026-05-12")}
				}
			}
			var body client.SwitchOnRequest
			switch begin {
			case "now":
			case "all":
				body.OldMail = &client.OldMailRequest{}
			default:
				day, err := dayOf("--begin", begin)
				if err != nil {
					return usageError{fmt.Errorf("--begin is now, all, or a day such as 2026-05-12, not %q", begin)}
				}
				body.OldMail = &client.OldMailRequest{Since: day}
			}
			if r, err = call[client.Rule](api.SwitchRuleOn(ctx, r.ID, body)); err != nil {
				return err
			}
			return c.show(r, func() {
				if begin == "now" {
					c.printf("“%s” is on. It files mail that arrives from now on. For mail that is already there: inktray rules "+
						"file-old-mail %q\n", r.Name, r.Name)
				} else {
					c.printf("“%s” is on, and old mail is being filed. See how it goes: inktray passes list\n", r.Name)
				}
				for _, note := range deref(r.Notes) {
					fmt.Fprintln(c.out, note)
				}
			})
		}),
	}
	cmd.Flags().StringVar(&begin, "begin", "", "now, all, or a day such as 2026-05-12")
	return cmd
}

// ask puts a question to the person at the terminal, in the person's language.
func (c *command) ask(question string) (string, error) { return c.answer(c.texts.Say(question)) }

// answer reads a line from the terminal, after a text that is in the person's language already.
func (c *command) answer(question string) (string, error) {
	f, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", errors.New("this command is not running in a terminal, so nobody can answer")
	}
	fmt.Fprint(c.errs, question)
	answer, err := bufio.NewReader(c.in).ReadString('\n')
	return strings.TrimSpace(answer), err
}

// removing is a command that asks before it removes something: find says what is lost, and gives what removes it.
func (c *command) removing(short string, find func(ctx context.Context, api *client.Client, name string) (lost string,
	remove func() error, err error)) *cobra.Command {
	yes := false
	cmd := &cobra.Command{Use: "remove NAME", Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			lost, remove, err := find(ctx, api, args[0])
			if err != nil {
				return err
			}
			if err := c.confirm(lost+" Remove?", yes); err != nil {
				return err
			}
			return remove()
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// confirm asks for a yes before something is lost. Without a terminal it wants --yes.
func (c *command) confirm(question string, yes bool) error {
	if yes {
		return nil
	}
	question = c.texts.Say(question)
	answer, err := c.answer(question + " " + c.texts.Say("Type yes or no: "))
	if err != nil {
		return usageError{fmt.Errorf("%s Add --yes to confirm: this command is not running in a terminal", question)}
	}
	if answer != "yes" {
		return &exitError{exitFailure, "Nothing was changed."}
	}
	return nil
}

func (c ruleCommands) showLines(lines []client.DiffLine, indent string) {
	for _, l := range lines {
		switch l.In {
		case client.Was:
			fmt.Fprintf(c.out, c.texts.Format("%swas  %s")+"\n", indent, l.Text)
		case client.Now:
			fmt.Fprintf(c.out, c.texts.Format("%snow  %s")+"\n", indent, l.Text)
		}
	}
}

// careCommands are those that look after rules.
func (c ruleCommands) careCommands() []*cobra.Command {
	return []*cobra.Command{c.importing(), c.copy(), c.revisions(), c.bringBack(), c.export(), c.draft()}
}

func (c ruleCommands) importing() *cobra.Command {
	var preview bool
	var renames []string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Import the rules of an exported file; new ones are off", Args: cobra.ExactArgs(1),
		Long: "Ink Tray recognises a rule by its id, else by its name. If a new rule looks like an existing one under " +
			"another name, the command asks whether that rule was renamed. --renamed \"NEW NAME=OLD NAME\" answers in " +
			"advance, and --renamed \"NEW NAME=\" says that the rule is new.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			data, err := c.readFile(args[0])
			if err != nil {
				return err
			}
			if _, err := rule.Parse(data); err != nil {
				return fileProblems(args[0], err)
			}
			return c.importRules(ctx, api, string(data), renames, preview)
		}),
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what would change; exit code 7 where something would")
	cmd.Flags().StringArrayVar(&renames, "renamed", nil, "NEW NAME=OLD NAME; can be given several times")
	return cmd
}

func (c ruleCommands) copy() *cobra.Command {
	return &cobra.Command{
		Use: "copy NAME", Short: "Make a rule like another, off, under a name of its own", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			made, err := call[client.Rule](api.CopyRule(ctx, r.ID))
			if err != nil {
				return err
			}
			return c.show(made, func() { c.printf("“%s” is a copy of “%s”, and off.\n", made.Name, r.Name) })
		}),
	}
}

func (c ruleCommands) revisions() *cobra.Command {
	return &cobra.Command{
		Use: "revisions NAME", Short: "Show the earlier versions of a rule and what each changed", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			all, err := call[[]client.Revision](api.ListRevisions(ctx, r.ID))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				for _, one := range all {
					present := ""
					if one.Present {
						present = ", the present one"
					}
					c.printf("Revision %d, %s by %s%s\n", one.Number, when(one.MadeAt), one.MadeBy, present)
					c.showLines(one.Lines, "  ")
				}
			})
		}),
	}
}

func (c ruleCommands) bringBack() *cobra.Command {
	return &cobra.Command{
		Use: "bring-back NAME REVISION", Short: "Bring back an earlier version of a rule, as a new revision",
		Args: cobra.ExactArgs(2),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r, err := findRule(ctx, api, args[0])
			if err != nil {
				return err
			}
			number, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil || number < 1 {
				return usageError{fmt.Errorf("%q is not the number of a revision; see inktray rules revisions "+
					"%q", args[1], r.Name)}
			}
			if r, err = call[client.Rule](api.BringBack(ctx, r.ID, number)); err != nil {
				return err
			}
			return c.show(r, func() {
				c.printf("“%s” is as it was in revision %d; this is revision %d.\n  %s\n", r.Name, number, r.Revision,
					r.Sentence)
			})
		}),
	}
}

func (c ruleCommands) export() *cobra.Command {
	return &cobra.Command{
		Use: "export [NAME...]", Short: "Print rules as a file that can be imported; all where none is named",
		Args: cobra.ArbitraryArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			ids := []string{}
			for _, name := range args {
				r, err := findRule(ctx, api, name)
				if err != nil {
					return err
				}
				ids = append(ids, r.ID)
			}
			p := &client.ExportRulesParams{}
			if len(ids) > 0 {
				p.ID = &ids
			}
			response, err := api.ExportRules(ctx, p)
			if err != nil {
				return err
			}
			if response.StatusCode != 200 {
				_, err := call[nothing](response, nil)
				return err
			}
			defer response.Body.Close()
			_, err = io.Copy(c.out, response.Body)
			return err
		}),
	}
}

func (c ruleCommands) draft() *cobra.Command {
	return &cobra.Command{
		Use: "draft MESSAGE", Short: "Print a rule drafted from a message, by its number", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			number, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || number < 1 {
				return usageError{fmt.Errorf("%q is not the number of a message; see inktray messages list", args[0])}
			}
			document, err := call[json.RawMessage](api.DraftRule(ctx, number))
			if err != nil {
				return err
			}
			r, err := rule.ParseRule(document)
			if err != nil {
				return err
			}
			text, err := rule.YAML(rule.Document{Format: rule.Format, Rules: []rule.Rule{*r}})
			if err != nil {
				return err
			}
			_, err = c.out.Write(text)
			return err
		}),
	}
}

func (c ruleCommands) importRules(ctx context.Context, api *client.Client, document string, renames []string,
	preview bool) error {
	rules, err := call[[]client.Rule](api.ListRules(ctx))
	if err != nil {
		return err
	}
	answers, err := renamed(rules, renames)
	if err != nil {
		return err
	}
	request := client.ImportRequest{Document: document, Renames: &answers}
	all, err := call[[]client.RuleChange](api.CompareRules(ctx, request))
	if err != nil {
		return err
	}
	for _, one := range all {
		if one.Renamed == nil {
			continue
		}
		question := fmt.Sprintf("Is “%s” the rule “%s” renamed? Type yes or no: ", one.Name, one.Renamed.Name)
		if preview {
			continue
		}
		answer, err := c.ask(question)
		if err != nil {
			return usageError{fmt.Errorf("is “%s” the rule “%s” renamed? Answer with --renamed %q, or with --renamed %q for a "+
				"new one", one.Name, one.Renamed.Name, one.Name+"="+one.Renamed.Name, one.Name+"=")}
		}
		answers[one.Name] = ""
		if answer == "yes" {
			answers[one.Name] = one.Renamed.ID
		}
	}
	changed := 0
	if preview {
		for _, one := range all {
			if one.Kind != "same" {
				changed++
			}
		}
		if err := c.show(all, func() { c.showChanges(all) }); err != nil || changed == 0 {
			return err
		}
		return &exitError{code: exitPending}
	}
	if all, err = call[[]client.RuleChange](api.ImportRules(ctx, request)); err != nil {
		return err
	}
	return c.show(all, func() { c.showChanges(all) })
}

// renamed reads which rules of a file are rules that are there under another name: their ids by the name in the file.
func renamed(rules []client.Rule, renames []string) (map[string]string, error) {
	answers := map[string]string{}
	for _, one := range renames {
		fresh, old, ok := strings.Cut(one, "=")
		if !ok {
			return nil, usageError{fmt.Errorf("--renamed is NEW NAME=OLD NAME, not %q", one)}
		}
		answers[fresh] = ""
		for _, r := range rules {
			if strings.EqualFold(r.Name, old) {
				answers[fresh] = r.ID
			}
		}
		if old != "" && answers[fresh] == "" {
			return nil, &exitError{exitMissing, fmt.Sprintf("there is no rule called “%s”; see inktray rules list", old)}
		}
	}
	return answers, nil
}

// showChanges shows what an import changes.
func (c ruleCommands) showChanges(all []client.RuleChange) {
	for _, one := range all {
		switch {
		case one.Kind == "add" && one.Renamed != nil:
			c.printf("add     %s\n        Is it “%s” renamed? --renamed %q\n", one.Name, one.Renamed.Name, one.Name+
				"="+one.Renamed.Name)
		case one.Kind == "add":
			c.printf("add     %s\n        %s\n", one.Name,
				strings.ReplaceAll(wrap(one.Sentence, 92), "\n", "\n        "))
		case one.Kind == "change":
			c.printf("change  %s\n", one.Name)
			c.showLines(one.Lines, "        ")
		default:
			c.printf("same    %s\n", one.Name)
		}
		for _, p := range one.Problems {
			c.printf("        %s: %s\n", p.Place, p.Text)
		}
	}
}
