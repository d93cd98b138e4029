package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/internal/api/client"
)

// named finds a thing by its name, or by its identity.
func named[T any](all []T, err error, what, name string, of func(*T) (name, id string)) (T, error) {
	var names []string
	for i := range all {
		n, id := of(&all[i])
		if strings.EqualFold(n, name) || id == name {
			return all[i], err
		}
		names = append(names, n)
	}
	var none T
	if err != nil {
		return none, err
	}
	text := fmt.Sprintf("there is no %s called %q", what, name)
	if len(names) > 0 {
		text += "; there are: " + strings.Join(names, ", ")
	}
	return none, &exitError{exitMissing, text}
}

func findMailbox(ctx context.Context, api *client.Client, name string) (client.Mailbox, error) {
	all, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
	return named(all, err, "mailbox", name, func(m *client.Mailbox) (string, string) { return m.Name, m.ID })
}

func findCabinet(ctx context.Context, api *client.Client, name string) (client.Cabinet, error) {
	all, err := call[[]client.Cabinet](api.ListCabinets(ctx))
	return named(all, err, "cabinet", name, func(k *client.Cabinet) (string, string) { return k.Name, k.ID })
}

func findRule(ctx context.Context, api *client.Client, name string) (client.Rule, error) {
	all, err := call[[]client.Rule](api.ListRules(ctx))
	return named(all, err, "rule", name, func(r *client.Rule) (string, string) { return r.Name, r.ID })
}

func (c *command) mailboxes() *cobra.Command {
	root := &cobra.Command{Use: "mailboxes", Short: "The mailboxes that are watched"}
	root.AddCommand(&cobra.Command{
		Use: "list", Short: "List the mailboxes and how each does", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, m := range all {
					rows = append(rows, []string{m.Name, m.Username, m.Host, m.Encryption, string(m.State), short(m.Problem, 60)})
				}
				c.table([]string{"NAME", "USER", "HOST", "ENCRYPTION", "STATE", "PROBLEM"}, rows)
			})
		}),
	}, &cobra.Command{
		Use: "folders NAME", Short: "List a mailbox's folders, as the server has them", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			all, err := call[[]client.Folder](api.ListFolders(ctx, m.ID))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, f := range all {
					rows = append(rows, []string{f.Path, f.Role})
				}
				c.table([]string{"FOLDER", "ROLE"}, rows)
			})
		}),
	}, &cobra.Command{
		Use: "remove NAME", Short: "Stop watching a mailbox; filed files and the register stay", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.RemoveMailbox(ctx, m.ID)); err != nil {
				return err
			}
			fmt.Fprintf(c.out, "“%s” is no longer watched. What was filed stays.\n", m.Name)
			return nil
		}),
	}, c.mailboxAdd(), c.mailboxChange(), c.mailboxCheck())
	return root
}

// mailboxFlags are the settings of a mailbox as flags.
type mailboxFlags struct {
	host, encryption, user, secretFile string
	port, interval                     int
}

func (f *mailboxFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.host, "host", "", "name of the mail server")
	cmd.Flags().IntVar(&f.port, "port", 0, "0 for the usual one: 993 with tls, else 143")
	cmd.Flags().StringVar(&f.encryption, "encryption", "tls", "tls, starttls, or none (the secret can be read on the way)")
	cmd.Flags().StringVar(&f.user, "user", "", "name to sign in with")
	cmd.Flags().StringVar(&f.secretFile, "secret-file", "", "file that holds the secret; else INKTRAY_SECRET or the prompt")
	cmd.Flags().IntVar(&f.interval, "interval", 60, "seconds between looks into folders that the server does not announce")
}

func (f *mailboxFlags) settings(name, secret string) client.MailboxSettings {
	s := client.MailboxSettings{Name: name, Host: f.host, Port: &f.port, Encryption: client.MailboxSettingsEncryption(f.encryption), Username: f.user, IntervalSeconds: &f.interval}
	if secret != "" {
		s.Secret = &secret
	}
	return s
}

func (c *command) mailboxAdd() *cobra.Command {
	f := &mailboxFlags{}
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Add a mailbox and begin to watch it", Args: cobra.ExactArgs(1),
		Example: "  inktray mailboxes add gauges --host imap.brackwater.example --user gauges@brackwater.example",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "Secret of "+f.user)
			if err != nil {
				return err
			}
			m, err := call[client.Mailbox](api.AddMailbox(ctx, f.settings(args[0], secret)))
			if err != nil {
				return err
			}
			return c.show(m, func() {
				fmt.Fprintf(c.out, "“%s” is being watched. See how it does: inktray mailboxes check %s\n", m.Name, m.Name)
			})
		}),
	}
	f.add(cmd)
	return cmd
}

func (c *command) mailboxChange() *cobra.Command {
	f := &mailboxFlags{}
	newSecret := false
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change a mailbox's settings; what is known of its messages stays", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := c.connect()
			if err != nil {
				return err
			}
			m, err := findMailbox(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			s := client.MailboxSettings{Name: m.Name, Host: m.Host, Port: &m.Port, Encryption: client.MailboxSettingsEncryption(m.Encryption), Username: m.Username, IntervalSeconds: &m.IntervalSeconds}
			changed := cmd.Flags().Changed
			if changed("host") {
				s.Host = f.host
			}
			if changed("port") {
				s.Port = &f.port
			}
			if changed("encryption") {
				s.Encryption = client.MailboxSettingsEncryption(f.encryption)
			}
			if changed("user") {
				s.Username = f.user
			}
			if changed("interval") {
				s.IntervalSeconds = &f.interval
			}
			if newSecret || f.secretFile != "" || !strings.EqualFold(s.Host, m.Host) { // a secret is for one host
				secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "New secret of "+s.Username)
				if err != nil {
					return err
				}
				s.Secret = &secret
			}
			revision := fmt.Sprint(m.Revision)
			if m, err = call[client.Mailbox](api.ChangeMailbox(cmd.Context(), m.ID, &client.ChangeMailboxParams{IfMatch: &revision}, s)); err != nil {
				return err
			}
			return c.show(m, func() { fmt.Fprintf(c.out, "“%s” is changed.\n", m.Name) })
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&newSecret, "new-secret", false, "ask for a new secret")
	return cmd
}

func (c *command) mailboxCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check NAME", Short: "Say step by step what works and what does not", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			s := client.MailboxSettings{Name: m.Name, Host: m.Host, Port: &m.Port, Encryption: client.MailboxSettingsEncryption(m.Encryption), Username: m.Username}
			steps, err := call[[]client.CheckStep](api.CheckMailbox(ctx, &client.CheckMailboxParams{ID: &m.ID}, s))
			if err != nil {
				return err
			}
			ok := true
			var rows [][]string
			advice := ""
			for _, step := range steps {
				word := "works"
				if !step.Ok {
					word, ok, advice = "fails", false, deref(step.Advice)
				}
				rows = append(rows, []string{step.Step, word, step.Detail})
			}
			err = c.show(steps, func() {
				c.table([]string{"STEP", "", "WHAT WAS FOUND"}, rows)
				if advice != "" {
					fmt.Fprintln(c.out, "\n"+advice)
				}
			})
			if err == nil && !ok {
				err = &exitError{code: exitFailure}
			}
			return err
		}),
	}
}

func (c *command) cabinets() *cobra.Command {
	root := &cobra.Command{Use: "cabinets", Short: "The places where files are kept"}
	var folder, mode, owner string
	add := &cobra.Command{
		Use: "add NAME --folder PATH", Short: "Make a folder into a cabinet", Args: cobra.ExactArgs(1),
		Example: "  inktray cabinets add \"harbour files\" --folder /srv/harbour-files",
		RunE: func(cmd *cobra.Command, args []string) error {
			if folder == "" {
				return usageError{fmt.Errorf("say which folder with --folder")}
			}
			api, err := c.connect()
			if err != nil {
				return err
			}
			cab, err := call[client.Cabinet](api.AddCabinet(cmd.Context(), client.CabinetSettings{Name: args[0], Folder: folder, Mode: &mode, Owner: &owner}))
			if err != nil {
				return err
			}
			return c.show(cab, func() { fmt.Fprintf(c.out, "The cabinet “%s” is %s.\n", cab.Name, cab.Folder) })
		},
	}
	add.Flags().StringVar(&mode, "mode", "", "mode of files in octal, such as 0640; who may read a file may enter its folder")
	add.Flags().StringVar(&owner, "owner", "", "to whom files belong: user, user:group or :group")
	add.Flags().StringVar(&folder, "folder", "", "whole path of the folder, on the machine that runs Ink Tray")
	root.AddCommand(add, &cobra.Command{
		Use: "list", Short: "List the cabinets", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Cabinet](api.ListCabinets(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, k := range all {
					state := "in order"
					if k.Problem != "" {
						state = short(k.Problem, 80)
					}
					rows = append(rows, []string{k.Name, k.Kind, k.Folder, deref(k.Address), state})
				}
				c.table([]string{"NAME", "KIND", "FOLDER", "FOR COLLEAGUES", "STATE"}, rows)
			})
		}),
	}, &cobra.Command{
		Use: "check NAME", Short: "Look now whether a cabinet is there and can be written to", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			k, err := findCabinet(ctx, api, args[0])
			if err != nil {
				return err
			}
			if k, err = call[client.Cabinet](api.CheckCabinet(ctx, k.ID)); err != nil {
				return err
			}
			if k.Problem != "" {
				return &exitError{exitFailure, k.Problem}
			}
			return c.show(k, func() { fmt.Fprintf(c.out, "The cabinet “%s” is there and can be written to.\n", k.Name) })
		}),
	}, &cobra.Command{
		Use: "address NAME [ADDRESS]", Short: "Say how colleagues reach a cabinet, so that links open on their machines; without an address, none", Args: cobra.RangeArgs(1, 2),
		Example: "  inktray cabinets address \"harbour files\" '\\\\files\\harbour'\n  inktray cabinets address \"harbour files\" https://files.brackwater.example/harbour",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			k, err := findCabinet(ctx, api, args[0])
			if err != nil {
				return err
			}
			address := strings.Join(args[1:], "")
			if k, err = call[client.Cabinet](api.ChangeCabinet(ctx, k.ID, &client.ChangeCabinetParams{}, client.CabinetChange{Address: &address})); err != nil {
				return err
			}
			return c.show(k, func() {
				if deref(k.Address) == "" {
					fmt.Fprintf(c.out, "The cabinet “%s” has no address for colleagues.\n", k.Name)
					return
				}
				fmt.Fprintf(c.out, "Colleagues reach the cabinet “%s” at %s.\n", k.Name, *k.Address)
			})
		}),
	}, &cobra.Command{
		Use: "remove NAME", Short: "Forget a cabinet; its files stay where they are", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			k, err := findCabinet(ctx, api, args[0])
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.RemoveCabinet(ctx, k.ID)); err != nil {
				return err
			}
			fmt.Fprintf(c.out, "The cabinet “%s” is forgotten. Its files stay in %s.\n", k.Name, k.Folder)
			return nil
		}),
	})
	return root
}
