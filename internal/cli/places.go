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
