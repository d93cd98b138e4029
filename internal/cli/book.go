package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func (c bookCommands) correspondents() *cobra.Command {
	root := &cobra.Command{Use: "correspondents", Short: "Correspondents: the people and firms that write to the office"}
	var domains, addresses, groups []string
	var passwordFile string
	settings := func(name string) (client.CorrespondentSettings, error) {
		domains, addresses, groups = append([]string{}, domains...), append([]string{}, addresses...),
			append([]string{}, groups...)
		s := client.CorrespondentSettings{Name: name, Domains: &domains, Addresses: &addresses, Groups: &groups}
		if passwordFile == "" {
			return s, nil
		}
		data, err := c.readFile(passwordFile)
		if err != nil {
			return s, err
		}
		passwords := []string{}
		for _, line := range strings.Split(string(data), "\n") {
			if line = strings.TrimRight(line, "\r"); line != "" {
				passwords = append(passwords, line)
			}
		}
		s.Passwords = &passwords
		return s, nil
	}
	flags := func(cmd *cobra.Command) *cobra.Command {
		cmd.Flags().StringSliceVar(&domains, "domain", nil, "a domain, with its subdomains; can be given several times")
		cmd.Flags().StringSliceVar(&addresses, "address", nil, "a whole address; can be given several times")
		cmd.Flags().StringSliceVar(&groups, "group", nil, "a group to which they belong; can be given several times")
		cmd.Flags().StringVar(&passwordFile, "archive-passwords", "", "file with the passwords of archives that they send, "+
			"one a line; - reads them from standard input")
		return cmd
	}

	root.AddCommand(c.correspondentsList(), showing(c.command, "Show a correspondent", findCorrespondent),
		c.correspondentsProposed(), flags(&cobra.Command{
			Use: "add NAME", Short: "Add a correspondent", Args: cobra.ExactArgs(1),
			RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
				s, err := settings(args[0])
				if err != nil {
					return err
				}
				one, err := call[client.Correspondent](api.AddCorrespondent(ctx, s))
				if err != nil {
					return err
				}
				return c.correspondentsSaid(one)
			}),
		}), flags(&cobra.Command{
			Use: "change NAME", Short: "Change a correspondent; each option replaces what was there", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				return c.do(func(ctx context.Context, api *client.Client, args []string) error {
					is, err := findCorrespondent(ctx, api, args[0])
					if err != nil {
						return err
					}
					s, err := settings(is.Name)
					if err != nil {
						return err
					}
					for flag, keep := range map[string]func(){"domain": func() { s.Domains = &is.Domains },
						"address": func() { s.Addresses = &is.Addresses }, "group": func() { s.Groups = &is.Groups }} {
						if !cmd.Flags().Changed(flag) {
							keep()
						}
					}
					one, err := call[client.Correspondent](api.ChangeCorrespondent(ctx, is.ID,
						&client.ChangeCorrespondentParams{IfMatch: ifMatch(is.Revision)}, s))
					if err != nil {
						return err
					}
					return c.correspondentsSaid(one)
				})(cmd, args)
			},
		}), c.correspondentsRemove())
	return root
}

func (c bookCommands) correspondentsSaid(one client.Correspondent) error {
	return c.show(one, func() {
		c.printf("“%s” is a correspondent: %s.\n", one.Name,
			strings.Join(slices.Concat(one.Domains, one.Addresses), ", "))
	})
}

func (c bookCommands) correspondentsList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the correspondents", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Correspondent](api.ListCorrespondents(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, one := range all {
					passwords := ""
					if one.Passwords > 0 {
						passwords = fmt.Sprint(one.Passwords)
					}
					rows = append(rows,
						[]string{one.Name, strings.Join(one.Domains, ", "), strings.Join(one.Addresses, ", "),
							strings.Join(one.Groups, ", "), passwords})
				}
				c.table([]string{"NAME", "DOMAINS", "ADDRESSES", "GROUPS", "PASSWORDS"}, rows)
			})
		}),
	}
}

func (c bookCommands) correspondentsProposed() *cobra.Command {
	return &cobra.Command{
		Use: "proposed", Short: "List senders that are not correspondents yet", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Proposal](api.ListProposals(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, one := range all {
					rows = append(rows, []string{one.Domain, fmt.Sprint(one.Count), strings.Join(one.Known, ", ")})
				}
				c.table([]string{"DOMAIN", "MESSAGES", "SUCH AS"}, rows)
				if len(all) > 0 {
					c.printf("\nTo enter one: inktray correspondents add \"Its Name\" --domain %s\n", all[0].Domain)
				}
			})
		}),
	}
}

func (c bookCommands) correspondentsRemove() *cobra.Command {
	return c.removing("Remove a correspondent",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			is, err := findCorrespondent(ctx, api, name)
			return fmt.Sprintf("The correspondent “%s” is removed, with its groups and archive "+
					"passwords.", is.Name), func() error {
					if _, err := call[nothing](api.RemoveCorrespondent(ctx, is.ID)); err != nil {
						return err
					}
					c.printf("“%s” is no longer a correspondent.\n", is.Name)
					return nil
				}, err
		})
}

func findCorrespondent(ctx context.Context, api *client.Client, name string) (client.Correspondent, error) {
	all, err := call[[]client.Correspondent](api.ListCorrespondents(ctx))
	return named(all, err, "correspondent", name,
		func(x *client.Correspondent) (string, string) { return x.Name, x.ID })
}

func (c bookCommands) tables() *cobra.Command {
	root := &cobra.Command{Use: "tables", Short: "Tables in which patterns look something up, such as a station's place"}

	root.AddCommand(c.tablesList(), c.tablesShow(), c.tablesSave(), c.tablesRemove())
	return root
}

func (c bookCommands) tablesFind(ctx context.Context, api *client.Client, name string) (client.LookupTable, error) {
	all, err := call[[]client.LookupTable](api.ListTables(ctx))
	if err != nil {
		return client.LookupTable{}, err
	}
	at := slices.IndexFunc(all, func(x client.LookupTable) bool { return strings.EqualFold(x.Name, name) })
	if at < 0 {
		return client.LookupTable{}, &exitError{exitMissing, fmt.Sprintf("there is no table called “%s”; see inktray "+
			"tables list", name)}
	}
	return all[at], nil
}

func (c bookCommands) tablesList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the tables", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.LookupTable](api.ListTables(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, t := range all {
					rows = append(rows, []string{t.Name, fmt.Sprint(len(t.Rows)), "<lookup " + t.Name + " of (file.stem)>"})
				}
				c.table([]string{"NAME", "ROWS", "IN A PATTERN"}, rows)
			})
		}),
	}
}

func (c bookCommands) tablesShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Print a table as CSV", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			t, err := c.tablesFind(ctx, api, args[0])
			if err != nil {
				return err
			}
			return c.show(t, func() {
				w := csv.NewWriter(c.out)
				for _, r := range t.Rows {
					_ = w.Write([]string{r.Key, r.Value})
				}
				w.Flush()
			})
		}),
	}
}

func (c bookCommands) tablesSave() *cobra.Command {
	return &cobra.Command{
		Use: "save NAME FILE", Short: "Make or replace a table from a CSV file of two columns: what is looked up, and what " +
			"stands for it", Args: cobra.ExactArgs(2),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			data, err := c.readFile(args[1])
			if err != nil {
				return err
			}
			s, err := tableOf(args[0], string(data))
			if err != nil {
				return &exitError{exitInvalid, fmt.Sprintf("%s: %v", args[1], err)}
			}
			var t client.LookupTable
			is, err := c.tablesFind(ctx, api, args[0])
			var missing *exitError
			switch {
			case err == nil:
				t, err = call[client.LookupTable](api.ChangeTable(ctx, is.ID,
					&client.ChangeTableParams{IfMatch: ifMatch(is.Revision)}, s))
			case errors.As(err, &missing):
				t, err = call[client.LookupTable](api.AddTable(ctx, s))
			}
			if err != nil {
				return err
			}
			return c.show(t, func() {
				c.printf("The table “%s” has %d rows. In a pattern: <lookup %s of (file.stem)>\n", t.Name, len(t.Rows),
					t.Name)
			})
		}),
	}
}

func (c bookCommands) tablesRemove() *cobra.Command {
	return c.removing("Remove a table that no rule names",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			t, err := c.tablesFind(ctx, api, name)
			return fmt.Sprintf("The table “%s” is removed, with %s.", t.Name, count(len(t.Rows), "row")), func() error {
				if _, err := call[nothing](api.RemoveTable(ctx, t.ID)); err != nil {
					return err
				}
				c.printf("The table “%s” is removed.\n", t.Name)
				return nil
			}, err
		})
}

// tableOf reads two columns.
func tableOf(name, text string) (client.LookupTableSettings, error) {
	s := client.LookupTableSettings{Name: name, Rows: []client.LookupRow{}}
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	if first, _, _ := strings.Cut(text, "\n"); !strings.Contains(first, ",") && strings.Contains(first, ";") {
		r.Comma = ';'
	}
	for {
		fields, err := r.Read()
		if err == io.EOF {
			return s, nil
		}
		if err != nil {
			return s, err
		}
		line, _ := r.FieldPos(0)
		if len(fields) != 2 {
			return s, fmt.Errorf("line %d has %d columns; it must have two", line, len(fields))
		}
		s.Rows = append(s.Rows, client.LookupRow{Key: fields[0], Value: fields[1]})
	}
}
