package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/register"
)

// sought are the options by which the register is narrowed.
type sought struct {
	text, rule, mailbox, cabinet, folder, from, to string
	wide
}

func (q *sought) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&q.text, "text", "", "words and filters, as after the command")
	f.StringVar(&q.rule, "rule", "", "only what this rule filed")
	f.StringVar(&q.mailbox, "mailbox", "", "only what came to this mailbox")
	f.StringVar(&q.cabinet, "cabinet", "", "only this cabinet")
	f.StringVar(&q.folder, "folder", "", "only this folder and those below it")
	f.StringVar(&q.from, "since", "", "received on this day or later")
	f.StringVar(&q.to, "until", "", "received on this day or earlier")
	q.flag(cmd)
}

// search reads the options and what is after the command.
func (q *sought) search(ctx context.Context, api *client.Client, args []string) (client.RegisterSearch, error) {
	var s client.RegisterSearch
	words := strings.TrimSpace(q.text + " " + strings.Join(quoted(args), " "))
	for value, into := range map[string]**string{words: &s.Text, q.cabinet: &s.Cabinet, q.folder: &s.Folder} {
		if value != "" {
			*into = &value
		}
	}
	if q.rule != "" {
		r, err := findRule(ctx, api, q.rule)
		if err != nil {
			return s, err
		}
		s.Rule = &r.ID
	}
	if q.mailbox != "" {
		m, err := findMailbox(ctx, api, q.mailbox)
		if err != nil {
			return s, err
		}
		s.Mailbox = &m.ID
	}
	if err := day("--since", q.from, &s.From); err != nil {
		return s, err
	}
	err := day("--until", q.to, &s.To)
	return s, err
}

// quoted puts words that a shell took the quotes from back into quotes.
func quoted(args []string) []string {
	out := slices.Clone(args)
	for i, a := range out {
		if !strings.ContainsAny(a, " \t") || strings.Contains(a, `"`) {
			continue
		}
		name, value, ok := strings.Cut(a, ":")
		if ok && !strings.ContainsAny(name, " \t") {
			out[i] = name + `:"` + value + `"`
		} else {
			out[i] = `"` + a + `"`
		}
	}
	return out
}

const searchHelp = "Give words after the command: each must be in the number, sender, subject, file, folder, rule " +
	"or a note. Filters name where: %s. Put texts with spaces in quotes."

func searchLong() string {
	var all []string
	for _, f := range register.Filters {
		all = append(all, f.Example)
	}
	return fmt.Sprintf(searchHelp, strings.Join(all, ", "))
}

// cell is how a column of a filing reads in a terminal.
func cell(f *client.Filing, column string) string {
	switch column {
	case "number":
		return f.Entry
	case "filed":
		if f.FiledAt.IsZero() {
			return ""
		}
		return when(f.FiledAt)
	case "received":
		return when(f.ReceivedAt)
	case "sender":
		return short(who(f.SenderName, f.SenderAddress), 24)
	case "address":
		return f.SenderAddress
	case "subject":
		return short(f.Subject, 44)
	case "file":
		return short(f.File, 44)
	case "folder":
		return f.Folder
	case "cabinet":
		return f.Cabinet
	case "place":
		return deref(f.Place)
	case "mailbox":
		return f.Mailbox
	case "machine":
		return deref(f.Machine)
	case "rule":
		return f.Rule
	case "revision":
		return fmt.Sprint(*f.Revision)
	case "kind":
		return f.Kind
	case "size":
		return size(f.Size)
	case "checksum":
		return f.Sha256
	case "state":
		return string(*f.State)
	case "remark":
		return deref(f.Remark)
	case "notes":
		return short(deref(f.Notes), 44)
	case "message":
		return deref(f.MessageURL)
	}
	for _, v := range deref(f.Values) {
		if v.Name == column {
			return short(v.Text, 30)
		}
	}
	return ""
}

// values says what was read of a file: each value, or why there is none.
func values(all *[]client.FiledValue) (rows [][]string) {
	for _, v := range deref(all) {
		text := v.Text
		if text == "" {
			text = strings.TrimSuffix("not found: "+deref(v.Problem), ": ")
		} else if v.Sure != nil {
			text += fmt.Sprintf(" (read from a scan, %d %% sure)", *v.Sure)
		}
		rows = append(rows, []string{v.Name, text})
	}
	return rows
}

func (c registerCommands) filings(filings []client.Filing, columns []string) {
	head := make([]string, len(columns))
	for i, name := range columns {
		head[i] = strings.ToUpper(name)
		if name == "number" {
			head[i] = "NO."
		}
	}
	var rows [][]string
	for i := range filings {
		row := make([]string, len(columns))
		for k, name := range columns {
			row[k] = cell(&filings[i], name)
		}
		rows = append(rows, row)
	}
	c.table(head, rows)
}

func (c registerCommands) register() *cobra.Command {
	root := &cobra.Command{Use: "register", Short: "The register: find, show, export and verify filed files"}
	root.AddCommand(c.registerList(), c.registerShow(), c.places(), c.inside(), c.propose(),
		c.words(), c.registerFolders(),
		c.registerActivity(), c.registerExport(),
		c.registerFetch(), c.registerNote(), c.registerCorrect(), c.registerRead(), c.registerVerify(),
		c.registerColumns(), c.registerFiles())
	root.AddCommand(historyCommands(c).undo("undo NUMBER", "Take one filing back; without --yes it only says "+
		"what would happen", "filing",
		func(ctx context.Context, api *client.Client, id int64) (client.UndoPreview, error) {
			return call[client.UndoPreview](api.PreviewUndoOfItem(ctx, id))
		}, func(ctx context.Context, api *client.Client, id int64) (client.Pass, error) {
			return call[client.Pass](api.UndoItem(ctx, id))
		}))
	return root
}

// checkedColumns are columns that a person named, else those that fit a terminal.
func checkedColumns(ctx context.Context, api *client.Client, names []string, w wide) ([]string, error) {
	usual := []string{"number", "received", "sender", "file", "folder", "size"}
	if w.everywhere && len(names) == 0 {
		return append([]string{"machine"}, usual...), nil
	} else if len(names) == 0 {
		return usual, nil
	}
	own := register.ValuesNamed(names) // which the service knows
	if _, err := register.ColumnsNamed(names, own...); err != nil {
		return names, usageError{err}
	}
	if len(own) == 0 {
		return names, nil
	}
	l, err := call[client.RegisterLanguage](api.GetRegisterLanguage(ctx))
	if err != nil {
		return names, err
	}
	known := make([]string, len(l.Columns))
	for i := range l.Columns {
		known[i] = l.Columns[i].Name
	}
	for _, name := range own {
		if !slices.Contains(known, name) {
			return names, usageError{fmt.Errorf("there is no column “%s”; columns are %s", name, strings.Join(known, ", "))}
		}
	}
	return names, nil
}

func (c registerCommands) registerList() *cobra.Command {
	var q sought
	var most int
	var sort, by string
	var up bool
	var columns []string
	cmd := &cobra.Command{
		Use: "list [WORDS...]", Short: "List the register, the newest number first", Long: searchLong(),
		Example: "  inktray register list certificate corrin --since 2026-05-01\n  inktray register list sender:tidewatch " +
			"kind:spreadsheet larger:1MB --sort size\n  inktray register list \"water level\" --by message",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := q.search(ctx, api, args)
			if err != nil {
				return err
			}
			if columns, err = checkedColumns(ctx, api, columns, q.wide); err != nil {
				return err
			}
			direction := "down"
			if up {
				direction = "up"
			}
			switch by {
			case "filing":
				p := &client.ListRegisterParams{Text: s.Text, Rule: s.Rule, Mailbox: s.Mailbox, Cabinet: s.Cabinet,
					Folder: s.Folder, From: s.From, To: s.To, Most: &most, Everywhere: q.asked()}
				order, way := sort, client.ListRegisterParamsDirection(direction)
				p.Sort, p.Direction = &order, &way
				page, err := call[client.RegisterPage](api.ListRegister(ctx, p))
				if err != nil {
					return err
				}
				return c.show(page, func() {
					c.missing(page.Missing)
					c.filings(page.Filings, columns)
					for i := range page.Filings {
						if f := &page.Filings[i]; f.Inside != nil {
							c.printf("%s  %s\n", f.Entry, inside(f))
						}
					}
					c.more(len(page.Filings), page.Total, page.Size, "filing")
				})
			case "message":
				p := &client.ListRegisterMessagesParams{Text: s.Text, Rule: s.Rule, Mailbox: s.Mailbox, Cabinet: s.Cabinet,
					Folder: s.Folder, From: s.From, To: s.To, Most: &most, Everywhere: q.asked()}
				order, way := sort, client.ListRegisterMessagesParamsDirection(direction)
				p.Sort, p.Direction = &order, &way
				page, err := call[client.RegisterMessagesPage](api.ListRegisterMessages(ctx, p))
				if err != nil {
					return err
				}
				return c.show(page, func() {
					c.missing(page.Missing)
					var rows [][]string
					for _, m := range page.Messages {
						for i := range m.Filings {
							row := []string{"", "", "", m.Filings[i].Entry, short(m.Filings[i].File, 40), m.Filings[i].Folder}
							if i == 0 {
								row[0], row[1], row[2] = when(m.ReceivedAt), short(who(m.SenderName, m.SenderAddress), 24), short(m.Subject, 40)
							}
							rows = append(rows, q.row(m.Machine, row...))
						}
					}
					c.table(q.head("RECEIVED", "FROM", "SUBJECT", "NO.", "FILE", "FOLDER"), rows)
					c.more(len(page.Messages), page.Total, page.Size, "message")
				})
			}
			return usageError{fmt.Errorf("--by is filing or message, not %q", by)}
		}),
	}
	q.flags(cmd)
	cmd.Flags().IntVar(&most, "most", 30, "how many")
	cmd.Flags().StringVar(&sort, "sort", "number",
		"number, received, filed, sender, subject, file, folder, size, kind, rule, mailbox, or the name of a value")
	cmd.Flags().BoolVar(&up, "up", false, "the smallest, the oldest or the first of the alphabet first")
	cmd.Flags().StringVar(&by, "by", "filing", "one line for each filing, or for each message")
	cmd.Flags().StringSliceVar(&columns, "columns", nil, "which columns, in their order, as register columns lists them")
	return cmd
}

func (c registerCommands) more(shown, total int, octets int64, what string) {
	if total > shown {
		c.printf("\n%d of %s, %s in all; see more with --most, or narrow with words.\n", shown, count(total, what),
			size(octets))
	}
}

func (c registerCommands) registerShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NUMBER", Short: "Tell a filing's whole story", Args: cobra.ExactArgs(1),
		Example: "  inktray register show 2026-5731",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := call[client.Story](api.GetFiling(ctx, args[0]))
			if err != nil {
				return err
			}
			return c.show(s, func() { c.story(&s) })
		}),
	}
}

func (c registerCommands) places() *cobra.Command {
	return &cobra.Command{
		Use: "places NUMBER", Short: "Show where the values of a filing are in its file", Args: cobra.ExactArgs(1),
		Long: "Shows where the values of a filing are on the pages of its file: a PDF or a scan. A value may be in " +
			"several places. A value that a person corrected has no place.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			all, err := call[[]client.ValuePlace](api.GetPlaces(ctx, args[0]))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				if len(all) == 0 {
					c.println("None of its values is found on its pages.")
					return
				}
				var rows [][]string
				for _, p := range all {
					rows = append(rows, []string{p.Value, fmt.Sprint(p.Page), fmt.Sprintf("%.0f %%", p.Left*100),
						fmt.Sprintf("%.0f %%", p.Top*100)})
				}
				c.table([]string{"VALUE", "PAGE", "FROM THE LEFT", "FROM THE TOP"}, rows)
			})
		}),
	}
}

func (c registerCommands) inside() *cobra.Command {
	return &cobra.Command{
		Use: "inside NUMBER", Short: "Show the text, codes or electronic invoice inside a filed file",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			codes := true
			in, err := call[client.Inside](api.GetInside(ctx, args[0], &client.GetInsideParams{Codes: &codes}))
			if err != nil {
				return err
			}
			return c.show(in, func() {
				if in.Sure != nil {
					c.printf("Read from a scan, %d %% sure.\n\n", *in.Sure)
				}
				if in.Text != "" {
					fmt.Fprintln(c.out, in.Text)
				}
				if in.Cut {
					fmt.Fprintln(c.out, "…")
				}
				if in.Problem != nil {
					c.printf("Not read: %s.\n", *in.Problem)
				}
				for _, k := range deref(in.Codes) {
					c.printf("\n%s on page %d: %s\n", k.Kind, k.Page, k.Text)
				}
				if in.CodesProblem != nil && deref(in.CodesProblem) != deref(in.Problem) {
					c.printf("\nCodes: %s.\n", *in.CodesProblem)
				}
			})
		}),
	}
}

func (c registerCommands) propose() *cobra.Command {
	var occurrence int
	var subject bool
	cmd := &cobra.Command{
		Use: "propose NUMBER TEXT", Short: "Propose patterns for a value that you see in a filing's text",
		Long: "Propose patterns for a value that you see in a filing's text. Ink Tray tries each pattern in the last 50 " +
			"papers of the same rule, and shows what it finds. Copy the line that you like into the rule's “values:”.",
		Example: "  inktray register inside 2026-17\n  inktray register propose 2026-17 BK-20441",
		Args:    cobra.ExactArgs(2),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			p := &client.ProposeValueParams{Selected: args[1], Occurrence: &occurrence}
			if subject {
				in := client.ProposeValueParamsIn("subject")
				p.In = &in
			}
			all, err := call[client.ValueProposals](api.ProposeValue(ctx, args[0], p))
			if err != nil {
				return err
			}
			return c.show(all, func() { c.proposals(&all) })
		}),
	}
	cmd.Flags().IntVar(&occurrence, "occurrence", 0, "which one, if the same text occurs several times, from 0")
	cmd.Flags().BoolVar(&subject, "subject", false, "the text is in the subject of the message")
	return cmd
}

func (c registerCommands) proposals(all *client.ValueProposals) {
	for _, p := range all.Proposals {
		c.printf("%s: finds a value in %d of %s\n", p.How, p.Found, count(all.Papers, "paper"))
		line := []string{"name: NAME"}
		for _, of := range [][2]string{{"type", p.Type}, {"decimal", deref(p.Decimal)}, {"order", deref(p.Order)}} {
			if of[1] != "" && of[1] != "text" {
				line = append(line, of[0]+": "+of[1])
			}
		}
		line = append(line, "from: '"+strings.ReplaceAll(p.From, "'", "''")+"'")
		c.printf("  - {%s}\n", strings.Join(line, ", "))
	}
	if all.Unread > 0 {
		c.printf("\nThe text of %s cannot be read.\n", count(all.Unread, "more paper"))
	}
	if all.More {
		c.println("\nInk Tray did not try the other papers, because reading them takes too long.")
	}
	if len(all.Proposals) == 0 || len(all.Proposals[0].Findings) == 0 {
		return
	}
	c.println("\nThe first pattern finds")
	var rows [][]string
	for _, f := range all.Proposals[0].Findings {
		found := deref(f.Value)
		if found == "" {
			found = cmp.Or(deref(f.Problem), "nothing")
		}
		rows = append(rows, []string{f.Entry, f.File, found})
	}
	c.table([]string{"NUMBER", "FILE", "VALUE"}, rows)
}

func (c registerCommands) words() *cobra.Command {
	return &cobra.Command{
		Use: "words", Short: "Show how many files are read for searches with inside:",
		Long: "Shows how many files Ink Tray has read for searches. If a rule has “full text: true”, searches of the " +
			"register find the words inside its files, such as inside:\"oily water\". Ink Tray reads these files beside all " +
			"other work.",
		Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			w, err := call[client.Words](api.GetWords(ctx))
			if err != nil {
				return err
			}
			return c.show(w, func() {
				rules := "none; say “full text: true” in a rule"
				if len(w.Rules) > 0 {
					rules = strings.Join(w.Rules, ", ")
				}
				c.printf("Rules whose files are searched  %s\n", rules)
				if w.Files == nil { // only one who sees everything is told
					return
				}
				c.printf("Files that were read            %d, %s\nFiles that wait                 %d\n"+
					"Files without text              %d\n", *w.Files, size(deref(w.Size)), deref(w.Waiting), deref(w.Unread))
				for _, p := range w.Problems {
					c.printf("  %d: %s\n", p.Files, p.Problem)
				}
			})
		}),
	}
}

func (c registerCommands) story(s *client.Story) {
	f := &s.Filing
	state := string(*f.State)
	if f.Remark != nil {
		state += ", " + *f.Remark
	}
	rows := [][]string{{"state", state}, {"file", f.File}, {"folder", f.Folder}, {"cabinet", f.Cabinet},
		{"for colleagues", deref(f.Place)}, {"its folder", deref(s.FolderPlace)}, {"size", size(f.Size)},
		{"SHA-256", f.Sha256},
		{"from", strings.TrimSpace(f.SenderName + " <" + f.SenderAddress + ">")}, {"subject", f.Subject},
		{"mailbox", f.Mailbox}, {"received", when(f.ReceivedAt) + receivedAs(s.ReceivedFrom)},
		{"message", fmt.Sprint(f.Message)},
		{"message link", deref(f.MessageURL)}, {"at its server", deref(s.MailboxURL)}, {"verdict", s.Verdict}}
	if f.SenderAddress == "" {
		rows[8][1] = ""
	}
	rows = append(c.labelled(rows), values(f.Values)...)
	rows = slices.DeleteFunc(rows, func(r []string) bool { return r[1] == "" })
	c.table([]string{"NO.", f.Entry}, rows)
	fmt.Fprintln(c.out)
	rows = nil
	for _, h := range s.Events {
		text := h.Text
		if h.By != nil {
			text += " (" + *h.By + ")"
		}
		rows = append(rows, []string{when(h.At), text})
	}
	for _, step := range s.Steps {
		at := ""
		if step.DoneAt != nil {
			at = when(*step.DoneAt)
		}
		rows = append(rows,
			[]string{at, "Afterwards: " + strings.TrimSpace(string(step.Kind)+" "+step.What) + ": " + step.State})
	}
	c.table([]string{"WHEN", "WHAT HAPPENED"}, rows)
	if len(s.Notes) > 0 {
		fmt.Fprintln(c.out)
		rows = nil
		for _, n := range s.Notes {
			rows = append(rows, []string{fmt.Sprint(n.ID), when(n.MadeAt), n.MadeBy, n.Text})
		}
		c.table([]string{"NOTE", "WHEN", "BY", "TEXT"}, rows)
	}
	if len(s.Others) > 0 {
		c.println("\nOf the same message:")
		c.filings(s.Others, []string{"number", "file", "folder", "state"})
	}
}

func (c registerCommands) registerFolders() *cobra.Command {
	var q sought
	cmd := &cobra.Command{
		Use: "folders [WORDS...]", Short: "Count the filings by folder: those of the cabinets, or those within one of " +
			"their folders",
		Long: searchLong(),
		Example: "  inktray register folders --cabinet \"harbour files\" --folder Gauges\n" +
			"  inktray register folders kind:pdf",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := q.search(ctx, api, args)
			if err != nil {
				return err
			}
			if s.Folder != nil && s.Cabinet == nil {
				return usageError{errors.New("name the cabinet of the folder, with --cabinet")}
			}
			all, err := call[[]client.FolderCount](api.ListRegisterFolders(ctx,
				&client.ListRegisterFoldersParams{Text: s.Text, Rule: s.Rule, Mailbox: s.Mailbox, Cabinet: s.Cabinet,
					Folder: s.Folder, From: s.From, To: s.To, Everywhere: q.asked()}))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, b := range all {
					name := b.Name
					if b.More {
						name += "/"
					}
					rows = append(rows, []string{name, fmt.Sprint(b.Count), size(b.Size)})
				}
				c.table([]string{"FOLDER", "FILINGS", "SIZE"}, rows)
			})
		}),
	}
	q.flags(cmd)
	return cmd
}

func (c registerCommands) registerActivity() *cobra.Command {
	var q sought
	var by string
	var most int
	cmd := &cobra.Command{
		Use: "activity [WORDS...]", Short: "Count what was filed by day, month, rule, mailbox, sender, kind or cabinet",
		Long:    searchLong(),
		Example: "  inktray register activity --by rule --since 2026-11-01",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := q.search(ctx, api, args)
			if err != nil {
				return err
			}
			a, err := call[client.Activity](api.GetActivity(ctx,
				&client.GetActivityParams{Text: s.Text, Rule: s.Rule, Mailbox: s.Mailbox, Cabinet: s.Cabinet, Folder: s.Folder,
					From: s.From, To: s.To, By: client.GetActivityParamsBy(by), Most: &most,
					Everywhere: q.asked()}))
			if err != nil {
				return err
			}
			return c.show(a, func() {
				c.missing(a.Missing)
				largest := 1
				for _, t := range a.Tallies {
					largest = max(largest, t.Count)
				}
				var rows [][]string
				for _, t := range a.Tallies {
					rows = append(rows,
						[]string{t.Name, fmt.Sprint(t.Count), size(t.Size), strings.Repeat("▇", (t.Count*30+largest-1)/largest)})
				}
				c.table([]string{strings.ToUpper(by), "FILINGS", "SIZE", ""}, rows)
				c.printf("\n%s in all, %s.\n", count(a.Total, "filing"), size(a.Size))
				for _, s := range deref(a.Sums) {
					c.printf("%s: %s in %s.\n", s.Name, strings.TrimSpace(s.Total+" "+s.Currency),
						count(s.Count, "filing"))
				}
			})
		}),
	}
	q.flags(cmd)
	cmd.Flags().StringVar(&by, "by", "day", "day, month, rule, mailbox, sender, kind, cabinet or folder")
	cmd.Flags().IntVar(&most, "most", 20, "how many, those with the most; days and months are always complete")
	return cmd
}

// save writes what is read into a file that must not be there, or to standard
// output where the name is "-".
func (c registerCommands) save(into, option string, from io.Reader) error {
	if into == "-" {
		if c.terminal() { // what is in a file can steer a terminal
			return usageError{fmt.Errorf("a file is not printed on the screen; name one with %s, or pass the output on to a "+
				"program", option)}
		}
		_, err := io.Copy(plain(c.out), from)
		return err
	}
	w, err := os.OpenFile(into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if errors.Is(err, os.ErrExist) {
		return &exitError{exitInvalid, fmt.Sprintf("%s is there already; choose another name with %s", into, option)}
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(w, from)
	return errors.Join(err, w.Close())
}

func (c registerCommands) registerExport() *cobra.Command {
	var q sought
	var as, into, per, sort string
	var up bool
	var columns []string
	cmd := &cobra.Command{
		Use: "export [WORDS...]", Short: "Write the register, or what is looked for, as a table: CSV or XLSX",
		Long: searchLong(),
		Example: "  inktray register export --file register.xlsx\n  inktray register export rule:invoices --since " +
			"2026-01-01 --columns number,filed,sender,file,size --file invoices.csv",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := q.search(ctx, api, args)
			if err != nil {
				return err
			}
			if as == "" {
				if as = strings.ToLower(strings.TrimPrefix(filepath.Ext(into), ".")); as == "" {
					as = "csv"
				}
			}
			if per != "filing" && per != "message" {
				return usageError{fmt.Errorf("--per is filing or message, not %q", per)}
			}
			if as != "csv" && as != "xlsx" {
				return usageError{fmt.Errorf("a table is csv or xlsx, not %q; say which with --as", as)}
			}
			r := client.ExportRequest{Format: client.ExportRequestFormat(as), Search: &s, Everywhere: q.asked()}
			line := client.ExportRequestPer(per)
			r.Per = &line
			if len(columns) > 0 {
				r.Columns = &columns
			}
			direction := client.ExportRequestDirection("down")
			if up {
				direction = "up"
			}
			r.Sort, r.Direction = &sort, &direction
			x, err := call[client.Export](api.StartExport(ctx, r))
			if err != nil {
				return err
			}
			defer func() { // it is not needed any more, or was stopped
				end, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
				defer stop()
				_, _ = call[nothing](api.StopExport(end, x.ID))
			}()
			if x, err = c.exported(ctx, api, x); err != nil {
				return err
			}
			if x.State != "done" {
				return &exitError{exitFailure, "the export " + string(x.State) + ": " + deref(x.Problem)}
			}
			if into, err = c.saveExport(ctx, api, &x, into); err != nil {
				return err
			}
			if into != "-" {
				c.printf("%s holds %s.\n", into, count(x.Rows, per))
			}
			return nil
		}),
	}
	q.flags(cmd)
	cmd.Flags().StringVar(&as, "as", "", "csv or xlsx; by default as the name of the file says")
	cmd.Flags().StringVar(&into, "file", "", "name of the file to write, - for standard output")
	cmd.Flags().StringVar(&per, "per", "filing",
		"one line for each filing, or for each message with links to all its files")
	cmd.Flags().StringSliceVar(&columns, "columns", nil,
		"which columns, in their order; those that you chose by default")
	cmd.Flags().StringVar(&sort, "sort", "number", "by what the lines are put in order, as in register list")
	cmd.Flags().BoolVar(&up, "up", false, "the smallest, the oldest or the first of the alphabet first")
	return cmd
}

// saveExport saves the file of an export, under its own name where into is "".
func (c registerCommands) saveExport(ctx context.Context, api *client.Client, x *client.Export,
	into string) (string, error) {
	response, err := api.GetExportFile(ctx, x.ID)
	if err != nil {
		return into, err
	}
	if response.StatusCode != 200 {
		_, err := call[nothing](response, nil)
		return into, err
	}
	defer response.Body.Close()
	if into == "" {
		into = x.Name
	}
	if err := c.save(into, "--file", response.Body); err != nil {
		return into, err
	}
	return into, nil
}

// exported waits until an export has ended, and shows how far it is.
func (c registerCommands) exported(ctx context.Context, api *client.Client, x client.Export) (client.Export, error) {
	var err error
	bar := &progress{c: c.command}
	for x.State == "running" {
		bar.draw(x.Done, x.Rows, "lines")
		select {
		case <-ctx.Done():
			bar.end()
			return x, errors.New("the export was stopped; nothing was written")
		case <-time.After(200 * time.Millisecond):
		}
		id := x.ID
		if x, err = call[client.Export](api.GetExport(ctx, id)); err != nil {
			return x, err
		}
	}
	bar.end()
	return x, nil
}

func (c registerCommands) registerFetch() *cobra.Command {
	var into string
	cmd := &cobra.Command{
		Use: "fetch NUMBER", Short: "Fetch a filed file", Args: cobra.ExactArgs(1), Example: "  inktray register fetch " +
			"2026-5731 --to plan.pdf",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := call[client.Story](api.GetFiling(ctx, args[0]))
			if err != nil {
				return err
			}
			response, err := api.GetFile(ctx, args[0], &client.GetFileParams{})
			if err != nil {
				return err
			}
			if response.StatusCode != 200 {
				_, err := call[nothing](response, nil)
				return err
			}
			defer response.Body.Close()
			if into == "" {
				into = s.Filing.File
			}
			sum := sha256.New()
			if err := c.save(into, "--to", io.TeeReader(response.Body, sum)); err != nil {
				return err
			}
			if filed := s.Filing.Sha256; filed != "" && !strings.EqualFold(filed, hex.EncodeToString(sum.Sum(nil))) {
				c.tellln("A person or program changed this file in the cabinet after it was filed.")
			}
			if into == "-" {
				return nil
			}
			c.printf("%s is %s of %s.\n", into, s.Filing.Entry, s.Filing.Folder)
			return nil
		}),
	}
	cmd.Flags().StringVar(&into, "to", "",
		"name of the file to write, - for standard output; the filed name by default")
	return cmd
}

func (c registerCommands) registerNote() *cobra.Command {
	var remove int64
	cmd := &cobra.Command{
		Use: "note NUMBER [TEXT...]", Short: "Write a note on a filing, or take one away", Args: cobra.MinimumNArgs(1),
		Example: "  inktray register note 2026-5731 signed by the harbour master\n  inktray register note 2026-5731 " +
			"--remove 3",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if remove > 0 {
				if _, err := call[nothing](api.RemoveNote(ctx, args[0], remove)); err != nil {
					return err
				}
				c.println("The note is removed.")
				return nil
			}
			if len(args) < 2 {
				return usageError{errors.New("say what to write, after the number")}
			}
			s, err := call[client.Story](api.AddNote(ctx, args[0], client.NoteRequest{Text: strings.Join(args[1:], " ")}))
			if err != nil {
				return err
			}
			return c.show(s, func() { c.printf("%s has %s.\n", s.Filing.Entry, count(len(s.Notes), "note")) })
		}),
	}
	cmd.Flags().Int64Var(&remove, "remove", 0, "remove this note, by its number in register show")
	return cmd
}

func (c registerCommands) registerCorrect() *cobra.Command {
	return &cobra.Command{
		Use: "correct NUMBER VALUE [TEXT...]", Short: "Correct a value that Ink Tray read from a filed file",
		Long: "Correct a value that Ink Tray read from a filed file, or enter one that it did not find. Without a text " +
			"the value is removed. The filing's story keeps the earlier value.",
		Args: cobra.MinimumNArgs(2),
		Example: "  inktray register correct 2026-5731 order BK-2002\n  inktray register correct 2026-5731 total " +
			"1180.50 EUR\n  inktray register correct 2026-5731 due",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := call[client.Story](api.CorrectValue(ctx, args[0], args[1],
				client.Correction{Text: strings.Join(args[2:], " ")}))
			if err != nil {
				return err
			}
			return c.show(s, func() { c.table([]string{"NO.", s.Filing.Entry}, values(s.Filing.Values)) })
		}),
	}
}

func (c registerCommands) registerVerify() *cobra.Command {
	var q sought
	var every, speed int
	var from, to string
	cmd := &cobra.Command{
		Use:   "verify [NUMBER | WORDS...]",
		Short: "Verify that filed files are still there and unchanged; others go to the tray",
		Long: "Verifies one filing, or all that the search finds, now. Without arguments it shows when Ink Tray " +
			"verifies files by plan and what the last verification found; --every sets the plan. " + searchLong(),
		Example: "  inktray register verify 2026-5731\n  inktray register verify folder:gauges/2026\n  inktray register " +
			"verify state:all\n  inktray register verify --every 30 --from-time 19:00 --to-time 06:00",
	}
	plan := func(ctx context.Context, api *client.Client, f *pflag.FlagSet) error {
		v, err := call[client.Verification](api.GetVerification(ctx))
		if err != nil {
			return err
		}
		for name, set := range map[string]func(){"every": func() { v.Plan.EveryDays = every },
			"from-time": func() { v.Plan.FromTime = &from }, "to-time": func() { v.Plan.ToTime = &to },
			"speed": func() { v.Plan.MbPerSecond = &speed }} {
			if f.Changed(name) {
				set()
			}
		}
		if v, err = call[client.Verification](api.PlanVerification(ctx,
			&client.PlanVerificationParams{IfMatch: ifMatch(v.Revision)}, v.Plan)); err != nil {
			return err
		}
		return c.show(v, func() { c.verification(&v) })
	}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		f := cmd.Flags()
		if f.Changed("every") || f.Changed("from-time") || f.Changed("to-time") || f.Changed("speed") {
			return plan(ctx, api, f)
		}
		if len(args) == 1 {
			if _, ok := register.ParseNumber(args[0]); ok {
				return c.verifyOne(ctx, api, args[0])
			}
		}
		s, err := q.search(ctx, api, args)
		if err != nil {
			return err
		}
		if s == (client.RegisterSearch{}) {
			v, err := call[client.Verification](api.GetVerification(ctx))
			if err != nil {
				return err
			}
			return c.show(v, func() { c.verification(&v) })
		}
		return c.verifyNow(ctx, api, s)
	})
	q.flags(cmd)
	cmd.Flags().IntVar(&every, "every", 0, "verify each file once in so many days; 0 for never by itself")
	cmd.Flags().StringVar(&from, "from-time", "", "by plan only from this time of the day on, such as 19:00")
	cmd.Flags().StringVar(&to, "to-time", "", "and until this one, such as 06:00")
	cmd.Flags().IntVar(&speed, "speed", 0, "by plan read at most so many megabytes a second; 0 for no limit")
	return cmd
}

// verifyOne verifies one filing.
func (c registerCommands) verifyOne(ctx context.Context, api *client.Client, number string) error {
	s, err := call[client.Story](api.VerifyFiling(ctx, number))
	if err != nil {
		return err
	}
	if err := c.show(s, func() { fmt.Fprintln(c.out, s.Events[len(s.Events)-1].Text) }); err != nil {
		return err
	}
	if *s.Filing.State != "filed" {
		return &exitError{code: exitFailure}
	}
	return nil
}

// follow waits for the end of a pass, and shows how far it is.
func (c registerCommands) follow(ctx context.Context, api *client.Client, p client.Pass, done string) (client.Pass,
	error) {
	bar := &progress{c: c.command}
	defer bar.end()
	for p.State == "running" {
		bar.draw(p.Looked, p.Total, done)
		select {
		case <-ctx.Done():
			return p, fmt.Errorf("it goes on by itself as pass %d; stop it with: inktray passes stop %d", p.ID, p.ID)
		case <-time.After(200 * time.Millisecond):
		}
		var err error
		if p, err = call[client.Pass](api.GetPass(ctx, p.ID)); err != nil {
			return p, err
		}
	}
	return p, nil
}

func (c registerCommands) registerRead() *cobra.Command {
	var q sought
	cmd := &cobra.Command{
		Use: "read WORDS...", Short: "Read filed files again, for the values that their rules read now",
		Long: "Reads the files that the search finds again, for the values of their rule as it is now: for example " +
			"after you added a value or changed its pattern. Corrections by people stay, and so do values that " +
			"Ink Tray can no longer read. No file is moved or renamed. " + searchLong(),
		Example: "  inktray register read rule:dues\n  inktray register read folder:invoices/2026 kind:pdf\n  inktray " +
			"register read state:filed",
	}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		s, err := q.search(ctx, api, args)
		if err != nil {
			return err
		}
		if s == (client.RegisterSearch{}) {
			return usageError{errors.New("say which files, such as rule:dues; state:filed stands for all of them")}
		}
		p, err := call[client.Pass](api.StartReadingValues(ctx, s))
		if err != nil {
			return err
		}
		if p, err = c.follow(ctx, api, p, "files read"); err != nil {
			return err
		}
		err = c.show(p, func() {
			text := fmt.Sprintf("%s read; values of %d changed", count(p.Looked, "file"), p.Matched)
			if p.Note != "" {
				text += "; " + p.Note
			}
			c.println(text + ".")
		})
		if err == nil && p.State != "done" {
			err = &exitError{code: exitFailure}
		}
		return err
	})
	q.flags(cmd)
	return cmd
}

// verifyNow verifies what is found, and shows how far it is.
func (c registerCommands) verifyNow(ctx context.Context, api *client.Client, s client.RegisterSearch) error {
	p, err := call[client.Pass](api.StartVerification(ctx, s))
	if err != nil {
		return err
	}
	if p, err = c.follow(ctx, api, p, "files verified"); err != nil {
		return err
	}
	err = c.show(p, func() {
		note := p.Note
		if note == "" {
			note = "all are as they were filed"
		}
		c.printf("%s verified: %s.\n", count(p.Looked, "file"), note)
		if p.Matched > 0 {
			c.println("See inktray tray list.")
		}
	})
	if err == nil && (p.Matched > 0 || p.State != "done" || p.Note != "") {
		err = &exitError{code: exitFailure}
	}
	return err
}

func (c registerCommands) verification(v *client.Verification) {
	plan := "never by itself"
	if v.Plan.EveryDays > 0 {
		plan = "each file once in " + count(v.Plan.EveryDays, "day")
		if deref(v.Plan.FromTime) != "" {
			plan += fmt.Sprintf(", between %s and %s", *v.Plan.FromTime, deref(v.Plan.ToTime))
		}
		if v.Plan.MbPerSecond != nil && *v.Plan.MbPerSecond > 0 {
			plan += fmt.Sprintf(", at most %d MB a second", *v.Plan.MbPerSecond)
		}
	}
	rows := [][]string{{"plan", plan}, {"due now", fmt.Sprint(v.Due)}, {"verified so far", fmt.Sprint(v.Verified)},
		{"missing", fmt.Sprint(v.Missing)}, {"changed", fmt.Sprint(v.Changed)}}
	if v.Last != nil {
		rows = append(rows,
			[]string{"last",
				fmt.Sprintf("%s, %s of %d, %s %s", when(v.Last.StartedAt), count(v.Last.Looked, "file"), v.Last.Total, v.Last.State,
					v.Last.Note)})
	}
	c.table([]string{"VERIFICATION", ""}, c.labelled(rows))
}

func (c registerCommands) registerColumns() *cobra.Command {
	usual := false
	cmd := &cobra.Command{
		Use: "columns [NAME...]", Short: "List the columns, or choose which of them you want in the console and in exports",
		Example: "  inktray register columns number filed sender file folder size state\n  inktray register columns --usual",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if len(args) > 0 || usual {
				choice, err := call[client.ColumnChoice](api.ChooseColumns(ctx,
					client.ColumnChoice{Columns: append([]string{}, args...)}))
				if err != nil {
					return err
				}
				return c.show(choice, func() { c.printf("Your columns: %s.\n", strings.Join(choice.Columns, ", ")) })
			}
			l, err := call[client.RegisterLanguage](api.GetRegisterLanguage(ctx))
			if err != nil {
				return err
			}
			return c.show(l, func() {
				var rows [][]string
				for _, k := range l.Columns {
					chosen := ""
					if i := slices.Index(l.Chosen, k.Name); i >= 0 {
						chosen = fmt.Sprint(i + 1)
					}
					rows = append(rows, []string{k.Name, chosen, k.Means})
				}
				c.table([]string{"COLUMN", "YOURS", "MEANS"}, rows)
			})
		}),
	}
	cmd.Flags().BoolVar(&usual, "usual", false, "choose the usual ones again")
	return cmd
}

func findRegisterFile(ctx context.Context, api *client.Client, name string) (client.RegisterFile, error) {
	all, err := call[[]client.RegisterFile](api.ListRegisterFiles(ctx))
	return named(all, err, "register file", name, func(f *client.RegisterFile) (string, string) { return f.Name, f.ID })
}

func (c registerCommands) registerFiles() *cobra.Command {
	root := &cobra.Command{Use: "files", Short: "Registers that are kept as files in a cabinet, for colleagues to open"}

	root.AddCommand(c.registerFilesAdd(), c.registerFilesList(), c.registerFilesWrite(), c.registerFilesRemove())
	return root
}

func (c registerCommands) registerFilesTell(f *client.RegisterFile) {
	for _, y := range f.Years {
		c.printf("%s, %s: %s, %s\n", f.Name, f.Cabinet, y.Path, count(y.Rows, "line"))
	}
	switch {
	case f.Problem != nil:
		c.printf("%s could not be written: %s. %s\n", f.Name, *f.Problem, deref(f.Advice))
	case len(f.Years) == 0:
		c.printf("%s is written with the first filing.\n", f.Name)
	}
	c.printf("Ink Tray writes it with the rights of %s. Anyone who may open it in the cabinet can read all of it.\n",
		f.Rights)
}

func (c registerCommands) registerFilesAdd() *cobra.Command {
	var cabinet string
	var folder string
	var as string
	var per string
	var ruleName string
	var of string
	var columns []string
	add := &cobra.Command{
		Use:   "add NAME --cabinet CABINET",
		Short: "Keep the register, or a part of it, as a file: one for each year, always up to date",
		Args:  cobra.ExactArgs(1),
		Example: "  inktray register files add Register --cabinet \"harbour files\" --as xlsx\n  inktray register files " +
			"add Readings --cabinet \"harbour files\" --folder Gauges --rule \"Tide gauge readings\"",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			r := client.RegisterFileRequest{Name: args[0], Cabinet: cabinet, Folder: &folder,
				Format: client.RegisterFileRequestFormat(as), Rule: &ruleName, OfFolder: &of}
			line := client.RegisterFileRequestPer(per)
			r.Per = &line
			if len(columns) > 0 {
				r.Columns = &columns
			}
			f, err := call[client.RegisterFile](api.AddRegisterFile(ctx, r))
			if err != nil {
				return err
			}
			return c.show(f, func() { c.registerFilesTell(&f) })
		}),
	}
	add.Flags().StringVar(&cabinet, "cabinet", "", "in which cabinet")
	add.Flags().StringVar(&folder, "folder", "", "in which folder of it")
	add.Flags().StringVar(&as, "as", "csv", "csv or xlsx")
	add.Flags().StringVar(&per, "per", "filing",
		"one line for each filing, or for each message with links to all its files")
	add.Flags().StringVar(&ruleName, "rule", "", "only what this rule filed")
	add.Flags().StringVar(&of, "of-folder", "", "only what is in this folder of the cabinet and below")
	add.Flags().StringSliceVar(&columns, "columns", nil,
		"which columns, in their order; the usual ones by default")
	return add
}

func (c registerCommands) registerFilesList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List them, with how far each is written", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.RegisterFile](api.ListRegisterFiles(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, f := range all {
					what := "all"
					switch {
					case f.Rule != nil:
						what = "rule " + *f.Rule
					case f.OfFolder != nil:
						what = "folder " + *f.OfFolder
					}
					if len(f.Years) == 0 {
						rows = append(rows, []string{f.Name, f.Cabinet, what, "", "", "", deref(f.Problem)})
					}
					for _, y := range f.Years {
						rows = append(rows,
							[]string{f.Name, f.Cabinet, what, y.Path, fmt.Sprint(y.Rows), whenOr(y.WrittenAt, ""), deref(f.Problem)})
					}
				}
				c.table([]string{"NAME", "CABINET", "OF", "FILE", "LINES", "WRITTEN", "PROBLEM"}, rows)
			})
		}),
	}
}

func (c registerCommands) registerFilesWrite() *cobra.Command {
	return &cobra.Command{
		Use: "write NAME", Short: "Write a register file now", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			f, err := findRegisterFile(ctx, api, args[0])
			if err != nil {
				return err
			}
			if f, err = call[client.RegisterFile](api.WriteRegisterFile(ctx, f.ID)); err != nil {
				return err
			}
			return c.show(f, func() { c.registerFilesTell(&f) })
		}),
	}
}

func (c registerCommands) registerFilesRemove() *cobra.Command {
	return c.removing("Stop writing a register file; the written files stay",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			f, err := findRegisterFile(ctx, api, name)
			return fmt.Sprintf("Ink Tray no longer writes “%s”. The written files stay where they "+
					"are.", f.Name), func() error {
					if _, err := call[nothing](api.RemoveRegisterFile(ctx, f.ID)); err != nil {
						return err
					}
					c.printf("Ink Tray no longer writes “%s”. The written files stay where they are.\n", f.Name)
					return nil
				}, err
		})
}

func (c registerCommands) erase() *cobra.Command {
	yes, files := false, "keep"
	cmd := &cobra.Command{
		Use: "erase ADDRESS", Short: "Erase a person's traces, by mail address; without --yes it only says what would be " +
			"erased", Args: cobra.ExactArgs(1),
		Long: "Erases senders, subjects, notes and names of attachments from the register and the records of messages, " +
			"and the person from the correspondents. Numbers, times, sizes and checksums stay. It cannot be undone.",
		Example: "  inktray erase ansel.quorn@saltmarsh.example\n  inktray erase ansel.quorn@saltmarsh.example --files " +
			"remove --yes",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			what := client.ErasureRequestFiles(files)
			r := client.ErasureRequest{Address: args[0], Files: &what}
			do, verb := api.PreviewErasure, "would be erased"
			if yes {
				do, verb = api.Erase, "erased"
			}
			e, err := call[client.Erasure](do(ctx, r))
			if err != nil {
				return err
			}
			return c.show(e, func() {
				c.printf("Of %s %s:\n", e.Address, verb)
				rows := [][]string{{"lines of the register", fmt.Sprint(e.Filings)}, {"messages", fmt.Sprint(e.Messages)},
					{"notes", fmt.Sprint(e.Notes)}, {"mail that was sent", fmt.Sprint(e.Posts)},
					{"correspondents", fmt.Sprint(e.Correspondents)}}
				switch {
				case files == "remove" && yes:
					rows = append(rows, []string{"files removed", fmt.Sprint(*e.Removed)})
				case files == "remove":
					rows = append(rows, []string{"files that would be removed", fmt.Sprint(e.Files)})
				}
				c.table([]string{"WHAT", "HOW MANY"}, c.labelled(rows))
				c.printf("\nWhat stays: %s.\n", strings.Join(*e.Stays, "; "))
				if !yes {
					c.println("It cannot be undone. Say --yes to erase it.")
				}
			})
		}),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "erase it")
	cmd.Flags().StringVar(&files, "files", "keep",
		"keep or remove: what becomes of the files that were filed from the person's messages")
	return cmd
}

// inside is where the words stand in a file, between signs.
func inside(f *client.Filing) string {
	var b strings.Builder
	for _, p := range *f.Inside {
		if p.Hit {
			b.WriteString("»" + p.Text + "«")
		} else {
			b.WriteString(p.Text)
		}
	}
	return b.String()
}
