package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/store"
)

// machineCommands are about the other machines of the office.
type machineCommands struct{ *command }

func (c machineCommands) machines() *cobra.Command {
	root := &cobra.Command{Use: "machines", Short: "The other machines of the office: their lists, with one sign-in here",
		Long: "Several machines, each with its own mailboxes, form one office. --everywhere lists the tray, the history " +
			"and the register of all machines, from copies of their records that follow their replicas. --at NAME before or " +
			"after any command lets another machine carry it out. There you are the person of the same name, with the " +
			"rights that this person has there."}
	root.AddCommand(c.list(), c.show(), c.add(), c.change(), c.remove())
	return root
}

// copyState says how fresh the copy of a machine's records is.
func copyState(m *client.Machine) string {
	switch {
	case m.Behind != nil && m.CopyAt != nil:
		return "as of " + when(*m.CopyAt) + ": " + *m.Behind
	case m.Behind != nil:
		return "none: " + *m.Behind
	case m.CopyAt == nil:
		return "being made"
	case m.Fresh:
		return "fresh; last change " + when(*m.CopyAt)
	}
	return "as of " + when(*m.CopyAt)
}

func answers(m *client.Machine) string {
	if m.Answers {
		return "yes"
	}
	if m.Problem == nil {
		return "not asked yet"
	}
	return "no: " + *m.Problem
}

func (c machineCommands) list() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the machines, and how fresh the copies of their records are",
		Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[client.Machines](api.ListMachines(ctx))
			if err != nil {
				return err
			}
			return c.command.show(all, func() {
				c.printf("This machine is called “%s”.\n", all.Here)
				if len(all.Others) == 0 {
					c.println("It knows no other machines. Add one with inktray machines add.")
					return
				}
				fmt.Fprintln(c.out)
				var rows [][]string
				for i := range all.Others {
					m := &all.Others[i]
					known := "yes"
					if !m.Known {
						known = "no"
					}
					rows = append(rows, []string{m.Name, m.Address, answers(m), known, copyState(m)})
				}
				c.table([]string{"MACHINE", "ADDRESS", "ANSWERS", "KNOWS YOU", "COPY OF ITS RECORDS"}, rows)
			})
		})}
}

func (c machineCommands) show() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show how another machine is reached, and how it does",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := call[client.Machine](api.GetOtherMachine(ctx, args[0]))
			if err != nil {
				return err
			}
			return c.command.show(m, func() { c.shown(&m) })
		})}
}

func (c machineCommands) shown(m *client.Machine) {
	rows := [][]string{{"address", m.Address}, {"answers", answers(m)}, {"version", deref(m.Version)},
		{"copy of its records", copyState(m)}, {"place of its replica", deref(m.Place)}, {"user there", deref(m.User)}}
	var kept [][]string
	for _, r := range rows {
		if r[1] != "" {
			kept = append(kept, r)
		}
	}
	c.table([]string{"MACHINE", m.Name}, c.labelled(kept))
	if !m.Known {
		c.printf("\nYou may not sign in at “%s”, so you see nothing of it. Ask an administrator there to invite you "+
			"under the same name.\n", m.Name)
	}
}

// machineFlags say how another machine is reached.
type machineFlags struct {
	address, tokenFile string
	place              placeOptions
}

func (f *machineFlags) add(cmd *cobra.Command) {
	v := cmd.Flags()
	v.StringVar(&f.address, "address", "", "at which it answers, such as https://north.brackwater.example; several "+
		"with spaces between, where a standby may take over")
	v.StringVar(&f.tokenFile, "token-file", "",
		"file with the token that an administrator made there (keys make NAME --scope machine); without it "+
			machineToken+" or the prompt")
	v.StringVar(&f.place.place, "of", "", "the place of its replica: "+placeHelp)
	f.place.openFlags(v)
}

const machineToken = "INKTRAY_MACHINE_TOKEN"

// settings reads the options into what the service is told.
func (f *machineFlags) settings(c *command, name string) (s client.MachineSettings, err error) {
	s = client.MachineSettings{Name: name, Address: f.address, Place: f.place.place, User: given(f.place.user),
		Region: given(f.place.region), HostKey: given(f.place.hostKey)}
	passphrase, err := unasked(c.readFile, f.place.passphraseFile, replicaPassphrase)
	if err != nil {
		return s, err
	}
	secret, err := unasked(c.readFile, f.place.secretFile, replicaSecret)
	if err != nil {
		return s, err
	}
	s.Passphrase, s.Secret = given(passphrase), given(secret)
	if f.place.authority != "" {
		pem, err := c.readFile(f.place.authority)
		if err != nil {
			return s, err
		}
		s.Authority = given(string(pem))
	}
	return s, nil
}

func (c machineCommands) add() *cobra.Command {
	var f machineFlags
	cmd := &cobra.Command{Use: "add NAME --address URL --of PLACE", Short: "Add another machine of the office",
		Args: cobra.ExactArgs(1),
		Long: "The other machine keeps a replica (inktray serve --replica); the service here follows it and only reads. " +
			"An administrator there makes a token with inktray keys make NAME --scope machine. Both are tried before " +
			"anything is kept.",
		Example: "  inktray machines add north --address https://north.brackwater.example --of /srv/replicas/north " +
			"--replica-passphrase-file north.passphrase --token-file north.token",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if f.address == "" || f.place.place == "" {
				return usageError{errors.New("say at which address the machine answers, with --address, and where its replica " +
					"is, with --of")}
			}
			s, err := f.settings(c.command, args[0])
			if err != nil {
				return err
			}
			token, err := c.secret(f.tokenFile, machineToken, "Token of "+args[0])
			if err != nil {
				return err
			}
			s.Token = &token
			m, err := call[client.Machine](api.AddMachine(ctx, s))
			if err != nil {
				return err
			}
			return c.command.show(m, func() {
				c.printf("“%s” belongs to the office. The copy of its records is being made: inktray machines list\n"+
					"Its lists: inktray tray list --everywhere, inktray register list --everywhere\n", m.Name)
			})
		})}
	f.add(cmd)
	return cmd
}

func (c machineCommands) change() *cobra.Command {
	var f machineFlags
	var name string
	cmd := &cobra.Command{Use: "change NAME", Short: "Change how this machine reaches another one; options that you " +
		"leave out stay as they are",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			was, err := call[client.Machine](api.GetOtherMachine(ctx, args[0]))
			if err != nil {
				return err
			}
			s, err := f.settings(c.command, args[0])
			if err != nil {
				return err
			}
			if name != "" {
				s.Name = name
			}
			for _, one := range []struct {
				now *string
				was string
			}{{&s.Address, was.Address}, {&s.Place, deref(was.Place)}} {
				if *one.now == "" {
					*one.now = one.was
				}
			}
			for _, one := range []struct{ now, was **string }{{&s.User, &was.User}, {&s.Region, &was.Region},
				{&s.HostKey, &was.HostKey}, {&s.Authority, &was.Authority}} {
				if *one.now == nil {
					*one.now = *one.was
				}
			}
			token, err := unasked(c.readFile, f.tokenFile, machineToken)
			if err != nil {
				return err
			}
			s.Token = given(token)
			revision := fmt.Sprintf("%q", fmt.Sprint(was.Revision))
			m, err := call[client.Machine](api.ChangeMachine(ctx, args[0], &client.ChangeMachineParams{IfMatch: &revision}, s))
			if err != nil {
				return err
			}
			return c.command.show(m, func() { c.shown(&m) })
		})}
	f.add(cmd)
	cmd.Flags().StringVar(&name, "name", "", "another name for it here")
	return cmd
}

func (c machineCommands) remove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove NAME", Short: "Forget another machine; nothing changes on that machine",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if err := c.confirm(fmt.Sprintf("The machine “%s” goes on with its work, but this machine no longer shows its "+
				"lists, and removes the copy of its records.", args[0]), yes); err != nil {
				return err
			}
			if _, err := call[nothing](api.RemoveMachine(ctx, args[0])); err != nil {
				return err
			}
			c.printf("“%s” is forgotten here.\n", args[0])
			return nil
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return cmd
}

// move moves a mailbox to another machine of the office.
func (c mailboxCommands) move() *cobra.Command {
	var from, to, secretFile string
	var yes bool
	cmd := &cobra.Command{Use: "move NAME --to MACHINE", Short: "Move a mailbox to another machine of the office",
		Args: cobra.ExactArgs(1),
		Long: "Hands the mailbox over with its marks, the rules that look into it and the decisions about each message, " +
			"and lets the other machine take it. It asks both machines first; if one of them cannot do it, the mailbox " +
			"stays where it is. Nothing is filed twice, and Ink Tray files what arrives meanwhile. Earlier filings stay in " +
			"the register of the machine that made them.",
		Example: "  inktray mailboxes move gauges --to north",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if to == "" {
				return usageError{errors.New("name the machine with --to; inktray machines list lists them")}
			}
			if err := c.confirm(fmt.Sprintf("The mailbox “%s” moves to the machine “%s”; rules that look into no other "+
				"mailbox are switched off where it was, and run there.", args[0], to), yes); err != nil {
				return err
			}
			r := client.MailboxMove{Mailbox: args[0], From: given(from), To: to}
			m, err := call[client.MailboxMoved](api.MoveMailbox(ctx, r))
			var p *problem
			if errors.As(err, &p) && p.Problems != nil && (*p.Problems)[0].Place == "secret" {
				secret, secretErr := c.secret(secretFile, "INKTRAY_SECRET", "Secret of "+args[0])
				if secretErr != nil {
					return secretErr
				}
				r.Secret = &secret
				m, err = call[client.MailboxMoved](api.MoveMailbox(ctx, r))
			}
			if err != nil {
				return err
			}
			return c.command.show(m, func() {
				c.printf("“%s” is now on the machine “%s”. Filing goes on from where it stopped.\n", m.Name, m.Machine)
				how := "sign-in"
				if r.Secret != nil {
					how = "change --new-secret"
				}
				if m.NeedsSecret {
					c.printf("Ink Tray reads it there only after you sign in to it: inktray --at %s mailboxes %s %q\n",
						m.Machine, how, m.Name)
				}
			})
		})}
	cmd.Flags().StringVar(&from, "from", "", "the machine where it is; without it the one that is asked")
	cmd.Flags().StringVar(&to, "to", "", "the machine that takes it")
	cmd.Flags().StringVar(&secretFile, "password-file", "",
		"file that holds its password; else INKTRAY_SECRET or the prompt")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return cmd
}

// wide is the option of lists that can be those of the whole office.
type wide struct{ everywhere bool }

func (w *wide) flag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&w.everywhere, "everywhere", false, "also at the other machines of the office")
}

// asked is the option as the service is told.
func (w *wide) asked() *bool {
	if !w.everywhere {
		return nil
	}
	return &w.everywhere
}

// row puts the machine before the cells of a line, where several are listed.
func (w *wide) row(machine *string, cells ...string) []string {
	if !w.everywhere {
		return cells
	}
	return append([]string{deref(machine)}, cells...)
}

// head is the head of such lines.
func (w *wide) head(titles ...string) []string {
	name := "MACHINE"
	return w.row(&name, titles...)
}

// missing names machines of which there is no copy to read.
func (c *command) missing(all *[]client.MissingMachine) {
	if all == nil {
		return
	}
	for _, m := range *all {
		c.tellf("The machine “%s” is missing in this: %s.\n", m.Machine, strings.TrimSuffix(m.Problem, "."))
	}
}

// placesOf opens the place of another machine's replica.
func placesOf(staging string) func(m *store.Machine, secret string) (replica.Place, error) {
	return func(m *store.Machine, secret string) (replica.Place, error) {
		o := placeOptions{place: m.Place, user: m.Username, region: m.Region, hostKey: m.HostKey}
		return o.at(secret, m.Authority, staging, nil)
	}
}
