package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// cabinetFlags say how a cabinet on a server is reached.
type cabinetFlags struct {
	kind, folder, mode, owner, user, secretFile, authorityFile, pinned, proxy, hostKey, region string
}

func (f *cabinetFlags) reach(cmd *cobra.Command) {
	v := cmd.Flags()
	v.StringVar(&f.user, "user", "", "name at the server; of an object store the access key")
	v.StringVar(&f.secretFile, "password-file", "",
		"file that holds the password, the private key or the secret key; else INKTRAY_SECRET or the prompt")
	v.StringVar(&f.authorityFile, "authority-file", "", "file with certificates that are trusted beside the system's, PEM")
	v.StringVar(&f.pinned, "pinned", "", "SHA-256 fingerprint of the server's certificate; Ink Tray then trusts this "+
		"certificate alone")
	v.StringVar(&f.proxy, "proxy", "", "socks5://host:port or http://host:port")
	v.StringVar(&f.hostKey, "host-key", "", "sftp: fingerprint of the server's host key, SHA256:...")
	v.StringVar(&f.region, "region", "", "s3: region, where the store has them")
}

// kindOf is the kind of a place where none is said.
func kindOf(kind, folder string) (string, error) {
	switch {
	case kind != "":
		return kind, nil
	case strings.HasPrefix(folder, "sftp://"):
		return "sftp", nil
	case strings.HasPrefix(folder, "https://"), strings.HasPrefix(folder, "http://"):
		return "", usageError{fmt.Errorf("say what answers at %s: --kind webdav or --kind s3", folder)}
	}
	return "local", nil
}

// authority reads certificates from the file that was named.
func (f *cabinetFlags) authority(c *command) (*string, error) {
	if f.authorityFile == "" {
		return nil, nil
	}
	data, err := c.readFile(f.authorityFile)
	if err != nil {
		return nil, err
	}
	text := string(data)
	return &text, nil
}

func given(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func (f *cabinetFlags) settings(c *command, name string) (client.CabinetSettings, error) {
	kind, err := kindOf(f.kind, f.folder)
	if err != nil {
		return client.CabinetSettings{}, err
	}
	k := client.CabinetKind(kind)
	set := client.CabinetSettings{Name: name, Kind: &k, Folder: f.folder, Mode: given(f.mode), Owner: given(f.owner),
		Username: given(f.user), Pinned: given(f.pinned), Proxy: given(f.proxy), HostKey: given(f.hostKey),
		Region: given(f.region)}
	if set.Authority, err = f.authority(c); err != nil {
		return set, err
	}
	if kind != "local" && f.user != "" {
		secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "Secret of "+f.user)
		if err != nil {
			return set, err
		}
		set.Secret = &secret
	}
	return set, nil
}

func (c cabinetCommands) cabinets() *cobra.Command {
	root := &cobra.Command{Use: "cabinets", Short: "Cabinets: where Ink Tray keeps the files"}

	root.AddCommand(c.cabinetsAdd(), c.changeCabinet(), c.moveCabinet(), c.cabinetsList(),
		showing(c.command, "Show a cabinet with its settings and how it does", findCabinet), c.cabinetsCheck(),
		c.cabinetsLook(), c.unknownFiles(), c.cabinetsAddress(), c.cabinetsRemove())
	return root
}

// cabinetsLook lists the folders of a place that need not be a cabinet.
func (c cabinetCommands) cabinetsLook() *cobra.Command {
	var f cabinetFlags
	var made string
	look := &cobra.Command{Use: "look PLACE", Short: "List the folders at a place, to choose one for a cabinet",
		Args: cobra.ExactArgs(1),
		Example: `  inktray cabinets look /srv
  inktray cabinets look https://files.brackwater.example/dav --kind webdav --user harbour
  inktray cabinets look sftp://files.brackwater.example/srv --user surveys --make Surveys --host-key SHA256:...`}
	look.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		var found client.LocalFolder
		f.folder = args[0]
		set, err := f.settings(c.command, "")
		switch {
		case err != nil:
			return err
		case *set.Kind == client.Local && made != "":
			return usageError{errors.New("--make is for servers; cabinets add makes a folder of this machine")}
		case *set.Kind == client.Local:
			found, err = call[client.LocalFolder](api.ListLocalFolders(ctx,
				&client.ListLocalFoldersParams{Path: &set.Folder}))
		default:
			found, err = call[client.LocalFolder](api.ListServerFolders(ctx, client.ServerPlace{Kind: *set.Kind,
				Folder: set.Folder, Make: given(made), Username: set.Username, Secret: set.Secret, Authority: set.Authority,
				Pinned: set.Pinned, Proxy: set.Proxy, HostKey: set.HostKey, Region: set.Region}))
		}
		if err != nil {
			return err
		}
		return c.show(found, func() {
			for _, name := range found.Folders {
				fmt.Fprintln(c.out, visible(name))
			}
			if len(found.Folders) == 0 {
				c.printf("There are no folders in %s.\n", found.Path)
			}
			if found.More {
				c.println("There are more folders than are shown.")
			}
		})
	})
	look.Flags().StringVar(&f.kind, "kind", "", "local, webdav, sftp or s3; else as the folder begins")
	look.Flags().StringVar(&made, "make", "", "on a server: make a folder of this name there, and list that")
	f.reach(look)
	return look
}

func (c cabinetCommands) cabinetsAdd() *cobra.Command {
	var f cabinetFlags
	add := &cobra.Command{
		Use: "add NAME --folder PLACE", Short: "Make a folder, here or on a server, into a cabinet", Args: cobra.ExactArgs(1),
		Example: `  inktray cabinets add "harbour files" --folder /srv/harbour-files
  inktray cabinets add "office share" --kind webdav --folder https://files.brackwater.example/dav/harbour --user harbour
  inktray cabinets add surveys --folder sftp://files.brackwater.example/srv/surveys --user surveys --password-file id_ed25519 --host-key SHA256:...
  inktray cabinets add archive --kind s3 --folder https://objects.brackwater.example/archive --user ACCESS-KEY`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.folder == "" {
				return usageError{fmt.Errorf("say which folder with --folder: a whole path, or an address")}
			}
			set, err := f.settings(c.command, args[0])
			if err != nil {
				return err
			}
			api, err := c.connect()
			if err != nil {
				return err
			}
			cab, err := call[client.Cabinet](api.AddCabinet(cmd.Context(), set))
			if err != nil {
				return err
			}
			return c.show(cab, func() { c.printf("The cabinet “%s” is %s.\n", cab.Name, cab.Folder) })
		},
	}
	add.Flags().StringVar(&f.kind, "kind", "", "local, webdav, sftp or s3; else as the folder begins")
	add.Flags().StringVar(&f.folder, "folder", "",
		"whole path on the machine that runs Ink Tray, or an address on a server")
	add.Flags().StringVar(&f.mode, "mode", "",
		"local: mode of files in octal, such as 0640; who may read a file may enter its folder")
	add.Flags().StringVar(&f.owner, "owner", "", "local: to whom files belong: user, user:group or :group")
	f.reach(add)
	return add
}

func (c cabinetCommands) cabinetsList() *cobra.Command {
	return &cobra.Command{
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
					rows = append(rows, []string{k.Name, string(k.Kind), k.Folder, deref(k.Address), state})
				}
				c.table([]string{"NAME", "KIND", "FOLDER", "FOR COLLEAGUES", "STATE"}, rows)
			})
		}),
	}
}

func (c cabinetCommands) cabinetsCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check NAME", Short: "Check that a cabinet can be reached and written to, and that it is safe to file in",
		Args: cobra.ExactArgs(1),
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
			return c.show(k, func() {
				c.printf("The cabinet “%s” is there and can be written to.\n", k.Name)
				for _, h := range deref(k.Holds) {
					c.printf("  %s\n", h)
				}
				if k.Room != nil {
					c.printf("  %s are free\n", size(*k.Room))
				}
			})
		}),
	}
}

func (c cabinetCommands) cabinetsAddress() *cobra.Command {
	return &cobra.Command{
		Use:   "address NAME [ADDRESS]",
		Short: "Set how colleagues reach a cabinet, so that links open on their machines; without an address, remove it",
		Args:  cobra.RangeArgs(1, 2),
		Example: "  inktray cabinets address \"harbour files\" '\\\\files\\harbour'\n  inktray cabinets address \"harbour " +
			"files\" https://files.brackwater.example/harbour",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			k, err := findCabinet(ctx, api, args[0])
			if err != nil {
				return err
			}
			address := strings.Join(args[1:], "")
			if k, err = call[client.Cabinet](api.ChangeCabinet(ctx, k.ID, &client.ChangeCabinetParams{},
				client.CabinetChange{Address: &address})); err != nil {
				return err
			}
			return c.show(k, func() {
				if deref(k.Address) == "" {
					c.printf("The cabinet “%s” has no address for colleagues.\n", k.Name)
					return
				}
				c.printf("Colleagues reach the cabinet “%s” at %s.\n", k.Name, *k.Address)
			})
		}),
	}
}

func (c cabinetCommands) cabinetsRemove() *cobra.Command {
	return c.removing("Forget a cabinet; its files stay where they are",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			k, err := findCabinet(ctx, api, name)
			return fmt.Sprintf("Ink Tray forgets the cabinet “%s”, and no longer verifies or takes back what it "+
					"filed there. Its files stay in %s.", k.Name, k.Folder), func() error {
					if _, err := call[nothing](api.RemoveCabinet(ctx, k.ID)); err != nil {
						return err
					}
					c.printf("The cabinet “%s” is forgotten. Its files stay in %s.\n", k.Name, k.Folder)
					return nil
				}, err
		})
}

func (c cabinetCommands) moveCabinet() *cobra.Command {
	var f cabinetFlags
	var address string
	var yes, away bool
	cmd := &cobra.Command{
		Use:   "move NAME --folder PLACE",
		Short: "Move a cabinet to another place, of another kind or not; without --yes it only says what would happen",
		Args:  cobra.ExactArgs(1),
		Example: "  inktray cabinets move \"harbour files\" --kind webdav --folder " +
			"https://files.brackwater.example/dav/harbour --user harbour --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.folder == "" {
				return usageError{fmt.Errorf("name the new place with --folder: a whole path, or an address")}
			}
			api, err := c.connect()
			if err != nil {
				return err
			}
			k, err := findCabinet(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			if !yes {
				c.printf("Ink Tray would copy all files of “%s” from\n  %s\nto\n  %s\nand read them back there. Filing goes on "+
					"meanwhile. At the end it pauses for a moment, and then the cabinet\nis at the new place: rules and register "+
					"lead there. The old place keeps its files, and Ink Tray files nothing\nthere any longer. Nothing was "+
					"changed. To do it, add --yes.\n", k.Name, k.Folder, f.folder)
				return nil
			}
			set, err := f.settings(c.command, k.Name)
			if err != nil {
				return err
			}
			p, err := call[client.Pass](api.MoveCabinet(cmd.Context(), k.ID,
				client.CabinetPlace{Kind: set.Kind, Folder: set.Folder, Username: set.Username, Secret: set.Secret,
					Authority: set.Authority, Pinned: set.Pinned, Proxy: set.Proxy, HostKey: set.HostKey, Region: set.Region,
					Mode: set.Mode, Owner: set.Owner, Address: given(address)}))
			if err != nil {
				return err
			}
			if away {
				return c.show(p, func() { c.printf("It is being moved: inktray passes show %d\n", p.ID) })
			}
			bar := &progress{c: c.command}
			for p.State == "running" {
				bar.draw(p.Looked, p.Total, "copied")
				select {
				case <-cmd.Context().Done():
					bar.end()
					return &exitError{exitFailure,
						fmt.Sprintf("no longer looking on; pass %d goes on by itself (inktray passes stop %d)", p.ID, p.ID)}
				case <-time.After(200 * time.Millisecond):
				}
				if p, err = call[client.Pass](api.GetPass(cmd.Context(), p.ID)); err != nil {
					return err
				}
			}
			bar.end()
			if p.State != "done" {
				return &exitError{exitFailure, fmt.Sprintf("pass %d is %s: %s", p.ID, p.State, p.Note)}
			}
			return c.show(p, func() {
				c.printf("The cabinet “%s” is %s now; %d files were copied. The old place keeps its files.\n", k.Name,
					set.Folder, p.Looked)
			})
		},
	}
	v := cmd.Flags()
	v.StringVar(&f.kind, "kind", "", "local, webdav, sftp or s3; else as the folder begins")
	v.StringVar(&f.folder, "folder", "", "the new place: whole path, or an address on a server")
	v.StringVar(&f.mode, "mode", "", "local: mode of files in octal")
	v.StringVar(&f.owner, "owner", "", "local: to whom files belong")
	v.StringVar(&address, "address", "", "how colleagues reach the new place")
	v.BoolVar(&yes, "yes", false, "do it")
	v.BoolVar(&away, "do-not-wait", false, "return at once; the pass goes on")
	f.reach(cmd)
	return cmd
}

func (c cabinetCommands) changeCabinet() *cobra.Command {
	var f cabinetFlags
	var newSecret bool
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change how Ink Tray reaches a cabinet on a server; the new settings are tried first",
		Args:    cobra.ExactArgs(1),
		Example: "  inktray cabinets change \"office share\" --new-secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := c.connect()
			if err != nil {
				return err
			}
			k, err := findCabinet(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			set := client.CabinetChange{}
			for name, at := range map[string]struct {
				value *string
				into  **string
			}{"user": {&f.user, &set.Username}, "pinned": {&f.pinned, &set.Pinned}, "proxy": {&f.proxy, &set.Proxy},
				"host-key": {&f.hostKey, &set.HostKey}, "region": {&f.region, &set.Region}} {
				if cmd.Flags().Changed(name) {
					*at.into = at.value
				}
			}
			if set.Authority, err = f.authority(c.command); err != nil {
				return err
			}
			// A kept secret is sent only where it was given for: another way needs it again.
			another := deref(k.Username) != "" && (set != (client.CabinetChange{}))
			if newSecret || f.secretFile != "" || another {
				secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "New secret of "+deref(k.Username))
				if err != nil {
					return err
				}
				set.Secret = &secret
			}
			if set == (client.CabinetChange{}) {
				return usageError{fmt.Errorf("say what to change, such as --user or --new-secret; how colleagues reach it is " +
					"`cabinets address`")}
			}
			if k, err = call[client.Cabinet](api.ChangeCabinet(cmd.Context(), k.ID,
				&client.ChangeCabinetParams{IfMatch: ifMatch(k.Revision)}, set)); err != nil {
				return err
			}
			return c.show(k, func() { c.printf("The new settings of the cabinet “%s” apply from now on.\n", k.Name) })
		},
	}
	f.reach(cmd)
	cmd.Flags().BoolVar(&newSecret, "new-secret", false, "ask for a new secret")
	return cmd
}

// unknownFiles lists files that the register does not know, and enters them.
func (c cabinetCommands) unknownFiles() *cobra.Command {
	enter, yes := false, false
	cmd := &cobra.Command{
		Use: "unknown NAME", Short: "List files of a cabinet that are not in the register, or enter them with --enter",
		Args: cobra.ExactArgs(1),
		Long: "The list also holds files that people put there themselves. After you put back an older copy of the " +
			"records, it holds the files that Ink Tray filed since, too. If you enter these in the register, they are found " +
			"and verified like any other.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			k, err := findCabinet(ctx, api, args[0])
			if err != nil {
				return err
			}
			most := 10000
			found, err := call[client.UnknownFiles](api.ListUnknownFiles(ctx, k.ID, &client.ListUnknownFilesParams{Most: &most}))
			if err != nil {
				return err
			}
			if enter && len(found.Files) > 0 {
				if err := c.confirm(fmt.Sprintf("%s will be entered in the register.", count(len(found.Files), "file")),
					yes); err != nil {
					return err
				}
				n := client.Count{}
				for some := range slices.Chunk(found.Files, 200) {
					var paths []string
					for _, f := range some {
						paths = append(paths, f.Path)
					}
					done, err := call[client.Count](api.EnterUnknownFiles(ctx, k.ID, client.FilesToEnter{Paths: paths}))
					if err != nil {
						return fmt.Errorf("%s entered, then: %w", count(n.Count, "file"), err)
					}
					n.Count += done.Count
				}
				return c.show(n, func() { c.printf("%s entered in the register.\n", count(n.Count, "file")) })
			}
			return c.show(found, func() {
				var rows [][]string
				for _, f := range found.Files {
					rows = append(rows, []string{f.Path, size(f.Size), whenOr(f.Modified, "")})
				}
				if len(rows) > 0 {
					c.table([]string{"FILE", "SIZE", "CHANGED"}, rows)
					fmt.Fprintln(c.out)
				}
				if len(found.Files) == 0 {
					c.printf("The register knows all of its %s.\n", count(found.Looked, "file"))
					return
				}
				c.printf("The register knows nothing of %d of %s.\n", len(found.Files), count(found.Looked, "file"))
				if found.More {
					c.println("There are more: these are the first.")
				}
			})
		}),
	}
	cmd.Flags().BoolVar(&enter, "enter", false, "enter them in the register, each with its checksum")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}
