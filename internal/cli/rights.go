package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/oapi-codegen/runtime/types"
	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// rightsFlags say what somebody may see.
type rightsFlags struct {
	mailboxes, cabinets []string
}

func (f *rightsFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringSliceVar(&f.mailboxes, "mailboxes", nil,
		"the mailboxes to be seen, by name, or all; \"\" for none beside those of the groups")
	cmd.Flags().StringSliceVar(&f.cabinets, "cabinets", nil,
		"the cabinets to be seen, by name, or all; \"\" for none beside those of the groups")
}

// apply puts what was given into rights; what was not given stays.
func (f *rightsFlags) apply(cmd *cobra.Command, r client.Rights) client.Rights {
	some := func(names []string) (all bool, list []string) {
		if len(names) == 1 && strings.EqualFold(names[0], "all") {
			return true, []string{}
		}
		none := func(n string) bool { return strings.TrimSpace(n) == "" }
		return false, slices.DeleteFunc(append([]string{}, names...), none)
	}
	if cmd.Flags().Changed("mailboxes") {
		r.AllMailboxes, r.Mailboxes = some(f.mailboxes)
	}
	if cmd.Flags().Changed("cabinets") {
		r.AllCabinets, r.Cabinets = some(f.cabinets)
	}
	return r
}

// seeing says in a few words what somebody sees.
func seeing(all bool, names []string) string {
	switch {
	case all:
		return "all"
	case len(names) == 0:
		return "none"
	}
	return strings.Join(names, ", ")
}

// meant finds what has an id or a name; in another case only where nothing else is called so. nil for nothing.
func meant[T any](all []T, name string, of func(*T) (id, name string)) (found *T) {
	several := false
	for i := range all {
		id, is := of(&all[i])
		if id == name || is == name {
			return &all[i]
		}
		if strings.EqualFold(is, name) {
			several, found = found != nil, &all[i]
		}
	}
	if several {
		return nil
	}
	return found
}

func findPerson(ctx context.Context, api *client.Client, name string) (client.Person, error) {
	all, err := call[[]client.Person](api.ListPeople(ctx))
	if err != nil {
		return client.Person{}, err
	}
	if p := meant(all, name, func(p *client.Person) (string, string) { return p.ID, p.Name }); p != nil {
		return *p, nil
	}
	return client.Person{}, &exitError{exitMissing, fmt.Sprintf("nobody is called “%s”", name)}
}

// people are who may sign in.
func (c peopleCommands) people() *cobra.Command {
	root := &cobra.Command{Use: "people", Short: "Who may sign in, and what each of them may see"}
	root.AddCommand(c.peopleList(), showing(c.command, "Show a person with role and rights", findPerson),
		c.peopleInvite(), c.peopleChange(), c.peopleLock(true), c.peopleLock(false),
		c.peopleLink(), doorCommands(c).peopleFactor(), c.peopleRemove())
	return root
}

func (c peopleCommands) peopleList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List who may sign in", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Person](api.ListPeople(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, p := range all {
					last := "never"
					if p.SignedInAt != nil {
						last = p.SignedInAt.Local().Format("2006-01-02 15:04")
					}
					rows = append(rows, []string{p.Name, string(p.Role), string(p.State), strings.Join(p.Groups, ", "),
						seeing(p.Rights.AllMailboxes, p.Rights.Mailboxes), seeing(p.Rights.AllCabinets, p.Rights.Cabinets), last})
				}
				c.table([]string{"NAME", "ROLE", "STATE", "GROUPS", "OWN MAILBOXES", "OWN CABINETS", "SIGNED IN"}, rows)
			})
		})}
}

// invited tells of a link.
func (c peopleCommands) invited(in client.Invited) error {
	return c.show(in, func() {
		until := in.ExpiresAt.Local().Format("2 January 2006, 15:04")
		if in.Sent {
			c.printf("A link was sent to %s. It works once, until %s.\n", deref(in.Person.Mail), until)
			return
		}
		if in.NotSent != nil {
			c.printf("It could not be sent: %s.\n", *in.NotSent)
		}
		c.printf("Give %s this link. It works once, until %s:\n\n   %s%s\n\nor: inktray sign-in --link %s\n",
			in.Person.Name, until, c.service, in.Path, strings.TrimPrefix(in.Path, "/join#"))
	})
}

// personFlags are what is said about a person.
type personFlags struct {
	rightsFlags
	role, mail string
	groups     []string
}

func (f *personFlags) flags(cmd *cobra.Command, role string) {
	f.rightsFlags.flags(cmd)
	cmd.Flags().StringVar(&f.role, "role", role,
		"reader (sees what was filed), clerk (works the tray, files old mail) or administrator (sets everything up)")
	cmd.Flags().StringVar(&f.mail, "mail", "", "the address to which links are sent")
	cmd.Flags().StringSliceVar(&f.groups, "groups", nil, "the groups to be in")
}

func (c peopleCommands) peopleInvite() *cobra.Command {
	var f personFlags
	var days int
	var send bool
	cmd := &cobra.Command{Use: "invite NAME", Short: "Invite a person, by a link that works once",
		Args: cobra.ExactArgs(1),
		Long: "Makes a link by which the person chooses a password. Without --mailboxes, --cabinets and --groups the " +
			"person sees all mailboxes and cabinets."}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		given := cmd.Flags().Changed
		all := !given("mailboxes") && !given("groups")
		r := f.apply(cmd, client.Rights{AllMailboxes: all, AllCabinets: !given("cabinets") && !given("groups"),
			Mailboxes: []string{}, Cabinets: []string{}})
		groups := append([]string{}, f.groups...)
		p := client.PersonSettings{Name: args[0], Mail: &f.mail, Role: client.Role(f.role), Rights: &r, Groups: &groups}
		in, err := call[client.Invited](api.InvitePerson(ctx, client.Invitation{Person: p, Days: &days, Send: &send}))
		if err != nil {
			return err
		}
		return c.invited(in)
	})
	f.flags(cmd, "reader")
	cmd.Flags().IntVar(&days, "days", 3, "after how many days the link expires")
	cmd.Flags().BoolVar(&send, "send", false, "send the link to the address given with --mail")
	return cmd
}

func (c peopleCommands) peopleChange() *cobra.Command {
	var f personFlags
	var name string
	cmd := &cobra.Command{Use: "change NAME", Short: "Change the role of a person, or what they may see",
		Args: cobra.ExactArgs(1)}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		p, err := findPerson(ctx, api, args[0])
		if err != nil {
			return err
		}
		r := f.apply(cmd, p.Rights)
		s := client.PersonSettings{Name: p.Name, Role: p.Role, Rights: &r}
		given := cmd.Flags().Changed
		if given("name") {
			s.Name = name
		}
		if given("role") {
			s.Role = client.Role(f.role)
		}
		if given("mail") {
			s.Mail = &f.mail
		}
		if given("groups") {
			groups := append([]string{}, f.groups...)
			s.Groups = &groups
		}
		now, err := call[client.Person](api.ChangePerson(ctx, p.ID,
			&client.ChangePersonParams{IfMatch: ifMatch(p.Revision)}, s))
		if err != nil {
			return err
		}
		return c.show(now, func() {
			c.printf("“%s” is %s, and sees the mailboxes: %s; the cabinets: %s.\n", now.Name,
				article(string(now.Role)), seeing(now.Rights.AllMailboxes, now.Rights.Mailboxes),
				seeing(now.Rights.AllCabinets, now.Rights.Cabinets))
		})
	})
	f.flags(cmd, "")
	cmd.Flags().StringVar(&name, "name", "", "another name")
	return cmd
}

func article(role string) string {
	if role == "administrator" {
		return "an administrator"
	}
	return "a " + role
}

func (c peopleCommands) peopleLock(locked bool) *cobra.Command {
	use, short, said := "unlock NAME", "Let a person sign in again", "“%s” may sign in again.\n"
	if locked {
		use, short = "lock NAME", "Lock a person out; their sessions end immediately"
		said = "“%s” is locked out, and has been signed out.\n"
	}
	return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			p, err := findPerson(ctx, api, args[0])
			if err != nil {
				return err
			}
			if p, err = call[client.Person](api.LockPerson(ctx, p.ID, client.Lock{Locked: locked})); err != nil {
				return err
			}
			return c.show(p, func() { c.printf(said, p.Name) })
		})}
}

func (c peopleCommands) peopleLink() *cobra.Command {
	var days int
	var send bool
	cmd := &cobra.Command{Use: "link NAME", Short: "Make a new link for choosing a password; the former link ends",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			p, err := findPerson(ctx, api, args[0])
			if err != nil {
				return err
			}
			in, err := call[client.Invited](api.MakeLink(ctx, p.ID, client.LinkRequest{Days: &days, Send: &send}))
			if err != nil {
				return err
			}
			return c.invited(in)
		})}
	cmd.Flags().IntVar(&days, "days", 3, "after how many days the link expires")
	cmd.Flags().BoolVar(&send, "send", false, "send the link to the person's address")
	return cmd
}

func (c peopleCommands) peopleRemove() *cobra.Command {
	return c.removing("Remove a person with their sessions and tokens",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			p, err := findPerson(ctx, api, name)
			return fmt.Sprintf("“%s” is removed, and all sessions and tokens end; programs with these tokens stop "+
					"working. What the person did stays on record.", p.Name), func() error {
					if _, err := call[nothing](api.RemovePerson(ctx, p.ID)); err != nil {
						return err
					}
					c.printf("“%s” is removed.\n", p.Name)
					return nil
				}, err
		})
}

func findGroup(ctx context.Context, api *client.Client, name string) (*client.Group, error) {
	all, err := call[[]client.Group](api.ListGroups(ctx))
	if err != nil {
		return nil, err
	}
	return meant(all, name, func(g *client.Group) (string, string) { return g.ID, g.Name }), nil
}

// groups are people with the same rights.
func (c peopleCommands) groups() *cobra.Command {
	root := &cobra.Command{Use: "groups", Short: "People with the same rights"}
	root.AddCommand(c.groupsList(), showing(c.command, "Show a group with its people and rights", groupNamed),
		c.groupsSave(), c.groupsRemove())
	return root
}

func (c peopleCommands) groupsList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the groups", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Group](api.ListGroups(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, g := range all {
					rows = append(rows, []string{g.Name, strings.Join(g.People, ", "),
						seeing(g.Rights.AllMailboxes, g.Rights.Mailboxes), seeing(g.Rights.AllCabinets, g.Rights.Cabinets)})
				}
				c.table([]string{"NAME", "PEOPLE", "MAILBOXES", "CABINETS"}, rows)
			})
		})}
}

func (c peopleCommands) groupsSave() *cobra.Command {
	var f rightsFlags
	var people []string
	var name string
	cmd := &cobra.Command{Use: "save NAME", Short: "Add or change a group; options that you leave out stay as they are",
		Args: cobra.ExactArgs(1)}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		g, err := findGroup(ctx, api, args[0])
		if err != nil {
			return err
		}
		s := client.GroupSettings{Name: args[0], People: append([]string{}, people...)}
		s.Rights = client.Rights{Mailboxes: []string{}, Cabinets: []string{}}
		if g != nil {
			s.Name, s.Rights = g.Name, g.Rights
			if !cmd.Flags().Changed("people") {
				s.People = g.People
			}
		}
		if name != "" {
			s.Name = name
		}
		s.Rights = f.apply(cmd, s.Rights)
		var response *http.Response
		if g == nil {
			response, err = api.AddGroup(ctx, s)
		} else {
			response, err = api.ChangeGroup(ctx, g.ID, &client.ChangeGroupParams{IfMatch: ifMatch(g.Revision)}, s)
		}
		now, err := call[client.Group](response, err)
		if err != nil {
			return err
		}
		return c.show(now, func() {
			c.printf("“%s” has %s, and sees the mailboxes: %s; the cabinets: %s.\n", now.Name,
				seeing(false, now.People), seeing(now.Rights.AllMailboxes, now.Rights.Mailboxes),
				seeing(now.Rights.AllCabinets, now.Rights.Cabinets))
		})
	})
	f.flags(cmd)
	cmd.Flags().StringSliceVar(&people, "people", nil, "who is in it, by name")
	cmd.Flags().StringVar(&name, "name", "", "another name")
	return cmd
}

func (c peopleCommands) groupsRemove() *cobra.Command {
	return c.removing("Remove a group; its people keep their own rights",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			g, err := findGroup(ctx, api, name)
			if err != nil {
				return "", nil, err
			}
			if g == nil {
				return "", nil, &exitError{exitMissing, fmt.Sprintf("there is no group “%s”", name)}
			}
			return fmt.Sprintf("The group “%s” is removed, and %s no longer see what it gave them.", g.Name,
					seeing(false, g.People)), func() error {
					if _, err := call[nothing](api.RemoveGroup(ctx, g.ID)); err != nil {
						return err
					}
					c.printf("The group “%s” is removed.\n", g.Name)
					return nil
				}, err
		})
}

// keys are sessions and tokens.
func (c peopleCommands) keys() *cobra.Command {
	root := &cobra.Command{Use: "keys", Short: "Sessions of browsers and tokens of programs: list, make, end"}
	root.AddCommand(c.keysList(), c.keysMake(), c.keysEnd())
	return root
}

func (c peopleCommands) keysList() *cobra.Command {
	all := false
	cmd := &cobra.Command{Use: "list", Short: "List your own sessions and tokens", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			ask := api.ListMyKeys
			if all {
				ask = api.ListKeys
			}
			keys, err := call[[]client.Key](ask(ctx))
			if err != nil {
				return err
			}
			return c.show(keys, func() {
				var rows [][]string
				for i := range keys {
					k := &keys[i]
					used, scope := "not yet", "-"
					if k.UsedAt != nil {
						used = k.UsedAt.Local().Format("2006-01-02 15:04")
					}
					if k.Scope != nil {
						scope = string(*k.Scope)
					}
					if k.This {
						scope += " (this one)"
					}
					rows = append(rows, []string{k.ID, k.Person, string(k.Kind), k.Label, scope, deref(k.Place),
						used, k.ExpiresAt.Local().Format("2006-01-02")})
				}
				c.table([]string{"ID", "PERSON", "KIND", "NAME", "FOR", "FROM", "LAST USED", "UNTIL"}, rows)
			})
		})}
	cmd.Flags().BoolVar(&all, "all", false, "everybody's; for administrators")
	return cmd
}

func (c peopleCommands) keysMake() *cobra.Command {
	var days int
	var scope string
	cmd := &cobra.Command{Use: "make NAME", Short: "Make a token for a program; it is shown this once",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s := client.Scope(scope)
			token, err := call[client.Token](api.MakeToken(ctx, client.TokenRequest{Label: args[0], Days: &days, Scope: &s}))
			if err != nil {
				return err
			}
			return c.show(token, func() {
				c.printf("%s\n\nIt is not shown again, and ends on %s.\n", token.Token,
					token.ExpiresAt.Local().Format("2 January 2006"))
			})
		})}
	cmd.Flags().IntVar(&days, "days", 365, "after how many days it ends")
	cmd.Flags().StringVar(&scope, "scope", "full",
		"what the token may do: full (all that you may do), read, register (the register only), metrics, or machine (for "+
			"another machine of the office, which asks with it for everybody)")
	return cmd
}

func (c peopleCommands) keysEnd() *cobra.Command {
	return &cobra.Command{Use: "end ID...", Short: "End sessions or tokens", Args: cobra.MinimumNArgs(1),
		Long: "Ends your own sessions and tokens, or as an administrator anybody's.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			for _, id := range args {
				_, err := call[nothing](api.EndMyKey(ctx, id))
				var p *problem
				if errors.As(err, &p) && p.Status == http.StatusNotFound {
					_, err = call[nothing](api.EndKey(ctx, id))
				}
				if err != nil {
					return err
				}
				c.printf("%s has ended.\n", id)
			}
			return nil
		})}
}

// password changes one's own.
func (c peopleCommands) password() *cobra.Command {
	var file, old string
	cmd := &cobra.Command{Use: "password", Short: "Choose another password for yourself", Args: cobra.NoArgs,
		Long: "Asks for the present password and for the new one. Your other sessions end; tokens stay.",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			present, err := c.secret(old, "INKTRAY_PASSWORD", "Present password")
			if err != nil {
				return err
			}
			chosen, err := c.secret(file, "INKTRAY_NEW_PASSWORD", "New password")
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.ChangeMyPassword(ctx, client.PasswordChange{Old: present, New: chosen})); err != nil {
				return err
			}
			c.println("Your password is changed. Your other sessions have ended.")
			return nil
		})}
	cmd.Flags().StringVar(&old, "present-file", "", "file that holds the present password")
	cmd.Flags().StringVar(&file, "new-file", "", "file that holds the new one")
	return cmd
}

// trailFlags narrow the audit trail.
type trailFlags struct{ text, person, from, to string }

func (f *trailFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.text, "text", "",
		"in what was done, in its object, in the person, the address, or what was changed")
	cmd.Flags().StringVar(&f.person, "person", "", "who did it")
	cmd.Flags().StringVar(&f.from, "since", "", "on this day or later, 2026-05-12")
	cmd.Flags().StringVar(&f.to, "until", "", "on this day or earlier")
}

func (f *trailFlags) days() (from, to *types.Date, err error) {
	day := func(name, s string) (*types.Date, error) {
		if s == "" {
			return nil, nil
		}
		d, err := time.Parse(time.DateOnly, s)
		if err != nil {
			return nil, usageError{fmt.Errorf("--%s is a day such as 2026-05-12, not %q", name, s)}
		}
		return &types.Date{Time: d}, nil
	}
	if from, err = day("since", f.from); err != nil {
		return nil, nil, err
	}
	to, err = day("until", f.to)
	return from, to, err
}

// audit is what people did.
func (c peopleCommands) audit() *cobra.Command {
	root := &cobra.Command{Use: "audit", Short: "The audit trail: who did what, when and from where, and what changed"}
	root.AddCommand(c.auditList(), c.auditExport())
	return root
}

func (c peopleCommands) auditList() *cobra.Command {
	var f trailFlags
	var most int
	var after int64
	cmd := &cobra.Command{Use: "list", Short: "List what people did, the newest first", Args: cobra.NoArgs}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		from, to, err := f.days()
		if err != nil {
			return err
		}
		params := client.ListAuditParams{Text: given(f.text), Person: given(f.person), From: from, To: to,
			Most: &most}
		if after > 0 {
			params.After = &after
		}
		page, err := call[client.AuditPage](api.ListAudit(ctx, &params))
		if err != nil {
			return err
		}
		return c.show(page, func() {
			var rows [][]string
			for i := range page.Lines {
				l := &page.Lines[i]
				rows = append(rows, []string{fmt.Sprint(l.Number), l.At.Local().Format("2006-01-02 15:04:05"), l.Person, l.Action,
					l.Object, deref(l.Place), deref(l.Token), changesInWords(l.Changes)})
			}
			c.table([]string{"NO", "WHEN", "WHO", "WHAT", "OF", "FROM", "TOKEN", "CHANGED"}, rows)
			if page.Next != nil {
				c.printf("\nThere are older ones: --after %d\n", *page.Next)
			}
		})
	})
	f.flags(cmd)
	cmd.Flags().IntVar(&most, "most", 100, "how many lines")
	cmd.Flags().Int64Var(&after, "after", 0, "lines that are older than this number")
	return cmd
}

// changesInWords is what was changed, on one line.
func changesInWords(changes *[]client.AuditChange) string {
	if changes == nil {
		return ""
	}
	var all []string
	for _, ch := range *changes {
		switch {
		case ch.Before == nil:
			all = append(all, fmt.Sprintf("%s: %v", ch.What, ch.After))
		case ch.After == nil:
			all = append(all, fmt.Sprintf("%s: no longer %v", ch.What, ch.Before))
		default:
			all = append(all, fmt.Sprintf("%s: %v, before %v", ch.What, ch.After, ch.Before))
		}
	}
	text := strings.Join(all, "; ")
	if r := []rune(text); len(r) > 120 {
		text = string(r[:119]) + "…"
	}
	return text
}

func (c peopleCommands) auditExport() *cobra.Command {
	var f trailFlags
	var file string
	cmd := &cobra.Command{Use: "export", Short: "Write what people did as a table (CSV)", Args: cobra.NoArgs}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		from, to, err := f.days()
		if err != nil {
			return err
		}
		response, err := api.ExportAudit(ctx, &client.ExportAuditParams{Text: given(f.text),
			Person: given(f.person), From: from, To: to})
		if err != nil {
			return err
		}
		data, err := wholeAnswer(response)
		if err != nil {
			return err
		}
		if file == "" || file == "-" {
			_, err := plain(c.out).Write(data)
			return err
		}
		if err := os.WriteFile(file, data, 0o600); err != nil {
			return err
		}
		c.printf("Written to %s.\n", file)
		return nil
	})
	f.flags(cmd)
	cmd.Flags().StringVar(&file, "file", "", "the file to write; without it the table is printed")
	return cmd
}

// wholeAnswer reads an answer that is no JSON.
func wholeAnswer(response *http.Response) ([]byte, error) {
	if response.StatusCode >= 300 {
		_, err := call[nothing](response, nil)
		return nil, err
	}
	defer response.Body.Close()
	return io.ReadAll(response.Body)
}
