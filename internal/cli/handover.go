package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func (c mailboxCommands) handOver() *cobra.Command {
	var file string
	var yes bool
	cmd := &cobra.Command{
		Use:     "hand-over NAME --file FILE",
		Short:   "Hand a mailbox over to another installation, with its marks; without --yes it only says what would happen",
		Args:    cobra.ExactArgs(1),
		Example: "  inktray mailboxes hand-over gauges --file gauges.mailbox --yes",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if file == "" {
				return usageError{fmt.Errorf("name the file with --file")}
			}
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			if !yes {
				c.printf("Ink Tray would write the mailbox “%s” into %s, with the day from which rules file its messages, the "+
					"decisions\nabout each, and the topics that these rules ask for with the texts of their examples, but without "+
					"its secret.\nThis machine then no longer watches it; its filings stay, and so does the register. Rules that "+
					"look into no\nother mailbox are switched off.\nOn the other machine: inktray mailboxes take-over %s\nNothing "+
					"was changed. To do it, add --yes.\n", m.Name, file, file)
				return nil
			}
			into, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return err
			}
			answer, err := api.HandOverMailbox(ctx, m.ID, &client.HandOverMailboxParams{})
			if err == nil && answer.StatusCode != http.StatusOK {
				_, err = call[nothing](answer, nil)
			}
			if err != nil {
				return errors.Join(err, into.Close(), os.Remove(file))
			}
			defer answer.Body.Close()
			_, err = io.Copy(into, answer.Body)
			if err := errors.Join(err, into.Sync(), into.Close()); err != nil {
				return fmt.Errorf("%w; the service keeps the file too, in its folder handed-over", err)
			}
			c.printf("“%s” is handed over and no longer watched here. On the other machine: inktray mailboxes "+
				"take-over %s\n", m.Name, file)
			return nil
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "file to write")
	cmd.Flags().BoolVar(&yes, "yes", false, "do it")
	return cmd
}

func (c mailboxCommands) takeOver() *cobra.Command {
	var secretFile string
	cmd := &cobra.Command{
		Use: "take-over FILE", Short: "Import a mailbox from another Ink Tray", Args: cobra.ExactArgs(1),
		Long: "Takes over a mailbox with its marks: Ink Tray does not file again what was filed there, and files what " +
			"arrived meanwhile. Rules that do not exist here come along and run as they ran there. Cabinets that hold files " +
			"of this mailbox must be cabinets here, too.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			m, err := call[client.Mailbox](api.TakeOverMailboxWithBody(ctx,
				&client.TakeOverMailboxParams{}, "application/octet-stream", f))
			if err != nil {
				return err
			}
			s := settingsOf(&m)
			if needsSecret(&s) {
				secret, err := c.secret(secretFile, "INKTRAY_SECRET", "Secret of "+s.Username)
				if err != nil {
					return fmt.Errorf("the mailbox is here, but cannot be read yet: %w; give its secret by inktray mailboxes change "+
						"%q --new-secret", err, m.Name)
				}
				s.Secret = &secret
				if m, err = call[client.Mailbox](api.ChangeMailbox(ctx, m.ID, &client.ChangeMailboxParams{}, s)); err != nil {
					return err
				}
			}
			return c.show(m, func() { c.printf("“%s” is watched here from where it was left.\n", m.Name) })
		}),
	}
	cmd.Flags().StringVar(&secretFile, "password-file", "",
		"file that holds the password; else INKTRAY_SECRET or the prompt")
	return cmd
}
