package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

// records looks after the service's own records.
func (c serviceCommands) records() *cobra.Command {
	root := &cobra.Command{Use: "records",
		Short: "The records of Ink Tray: check them, change their key, get back in"}
	root.AddCommand(c.checkRecords(), c.changeKey(), c.newKey(), c.administratorLink())
	return root
}

func (c serviceCommands) checkRecords() *cobra.Command {
	full, data := false, ""
	cmd := &cobra.Command{
		Use: "check", Short: "Check the records; exit code 1 if they are damaged", Args: cobra.NoArgs,
		Long: "Asks the running service. With --data, checks the records in a folder while no service uses them. Changes " +
			"nothing.",
	}
	shown := func(check client.RecordsCheck) error {
		err := c.show(check, func() {
			if check.Whole {
				c.printf("The records in %s are whole.\n", check.File)
				return
			}
			c.printf("The records in %s are damaged. %s\n", check.File, deref(check.Advice))
			for _, line := range check.Found {
				fmt.Fprintln(c.out, "  "+line)
			}
		})
		if err == nil && !check.Whole {
			return &exitError{exitFailure, ""}
		}
		return err
	}
	ask := c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		check, err := call[client.RecordsCheck](api.CheckRecords(ctx, client.CheckRecordsJSONRequestBody{Full: &full}))
		if err != nil {
			return err
		}
		return shown(check)
	})
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if data == "" {
			return ask(cmd, args)
		}
		file, found, err := store.ExamineFolder(data, full)
		if err != nil {
			return err
		}
		check := client.RecordsCheck{Whole: len(found) == 0, Full: full, File: file, Found: found}
		if !check.Whole {
			advice := store.DamagedAdvice
			check.Advice = &advice
		}
		return shown(check)
	}
	cmd.Flags().BoolVar(&full, "full", false, "look at every index and every reference too; takes longer")
	cmd.Flags().StringVar(&data, "data", "", "folder of records on which no service runs; without it the service is asked")
	return cmd
}

// changeKey changes the key while the service runs.
func (c serviceCommands) changeKey() *cobra.Command {
	yes := false
	cmd := &cobra.Command{Use: "change-key", Args: cobra.NoArgs,
		Short: "Give the records a new key while the service runs; all passwords are encrypted again",
		Long: "Use it if another person may have seen secret.key, or from time to time. You do not have to enter " +
			"anything again. Earlier backups hold the former key; make a new one afterwards.",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			if err := c.confirm("The records get another key. A copy of the former key no longer opens anything in them. "+
				"Change it?", yes); err != nil {
				return err
			}
			n, err := call[client.Count](api.ChangeKey(ctx))
			if err != nil {
				return err
			}
			return c.show(n, func() {
				c.printf("The records have another key. Encrypted again: %s.\n", count(n.Count, "secret"))
			})
		})}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (c serviceCommands) newKey() *cobra.Command {
	data, yes := "", false
	cmd := &cobra.Command{
		Use: "new-key", Short: "Make a new key for records whose key is lost; Ink Tray forgets all passwords in them",
		Args: cobra.NoArgs,
		Long: "The passwords in the records are sealed with the key secret.key. If that file is lost, put it back from a " +
			"copy. Only if there is no copy, run this command while the service is stopped: it forgets the passwords of " +
			"mailboxes, cabinets, archives and outgoing mail, and you enter them again in Settings. Everything else stays.",
		RunE: func(*cobra.Command, []string) error {
			if err := c.confirm("Ink Tray forgets all passwords in the records in "+data+", and you enter them again. Make a "+
				"new key?", yes); err != nil {
				return err
			}
			n, err := store.NewKey(data)
			if err != nil {
				return err
			}
			if c.format == "json" {
				return c.json(map[string]int{"forgotten": n})
			}
			c.printf("The records have a new key. Start the service, then enter the passwords again: %d were "+
				"forgotten.\n", n)
			return nil
		},
	}
	cmd.Flags().StringVar(&data, "data", defaultData(), "folder for the records")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// administratorLink is the way back in for whoever runs the machine.
func (c serviceCommands) administratorLink() *cobra.Command {
	data, name, yes := "", "", false
	cmd := &cobra.Command{
		Use: "administrator-link", Args: cobra.NoArgs,
		Short: "Make a link with which an administrator chooses a password, if nobody can sign in any longer",
		Long: "For anyone who can read the folder of the records, also while the service runs. The person that you name " +
			"becomes an administrator and may sign in; if nobody has that name, the command adds the person. The audit " +
			"trail shows it.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if name == "" {
				return usageError{errors.New("say with --name who is to be administrator")}
			}
			if err := c.confirm(fmt.Sprintf("“%s” becomes an administrator, who sees and changes everything. Make the link?",
				name), yes); err != nil {
				return err
			}
			code := strings.ToLower(rand.Text())
			until := time.Now().Add(24 * time.Hour)
			if err := store.AdministratorLink(cmd.Context(), data, name, code, time.Now()); err != nil {
				return err
			}
			if c.format == "json" {
				return c.json(map[string]any{"path": "/join#" + code, "expires_at": until})
			}
			c.printf("Open this link, which works once, for 24 hours:\n\n   %s/join#%s\n\n"+
				"or: inktray sign-in --link %s\n", c.service, code, code)
			return nil
		},
	}
	cmd.Flags().StringVar(&data, "data", defaultData(), "folder of the records")
	cmd.Flags().StringVar(&name, "name", "", "who is to be administrator")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}
