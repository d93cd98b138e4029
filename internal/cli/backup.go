package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/backup"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/store"
)

// backup makes copies of everything the installation consists of.
func (c backupCommands) backup() *cobra.Command {
	root := &cobra.Command{Use: "backup",
		Short: "Copies of all that Ink Tray keeps: records, key, mail that only it has"}
	root.AddCommand(c.backupShow(), c.backupPlan(), c.backupMake(), c.backupSave(), c.backupCheck(), c.backupKey())
	return root
}

// sealFlags say who can open a backup.
type sealFlags struct {
	file string
	keys []string
}

func (f *sealFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.file, "passphrase-file", "",
		"file that holds the passphrase; without it INKTRAY_BACKUP_PASSPHRASE or the prompt")
	cmd.Flags().StringSliceVar(&f.keys, "public-key", nil,
		"seal for the owner of the private key to this one (age1…), in place of a passphrase; can be given several times")
}

const passphraseVariable = "INKTRAY_BACKUP_PASSPHRASE"

func (c backupCommands) passphrase(file string) (string, error) {
	return c.secret(file, passphraseVariable, "Passphrase of the backup")
}

// told describes backups for people.
func (c backupCommands) told(b client.Backup) error {
	return c.show(b, func() {
		switch b.Place {
		case "folder":
			c.printf("Backups are made every %s at %s into %s; %d are kept.\n", days(b.EveryDays), b.At, b.Folder,
				b.Keep)
		case "cabinet":
			c.printf("Backups are made every %s at %s into the cabinet “%s”; %d are kept.\n", days(b.EveryDays),
				b.At, b.Cabinet, b.Keep)
		default:
			c.println("Ink Tray makes no backups by itself. Set a place with inktray backup plan.")
		}
		if b.RunningSince != nil {
			c.printf("Ink Tray has been making one since %s.\n", b.RunningSince.Local().Format("15:04:05"))
		}
		if l := b.Last; l != nil {
			c.printf("The last one is of %s: %s, %s with %d files, in %s. It was read back to its end.\n",
				l.At.Local().Format("2 January 2006, 15:04"), l.Name, size(l.Size), l.Files, l.Place)
		}
		if b.Late {
			c.println("It is late: look at what is below, and at the place.")
		}
		if b.Problem != nil {
			c.printf("The last try failed, at %s: %s.\n", b.FailedAt.Local().Format("2006-01-02 15:04"), *b.Problem)
		}
		if b.KeptProblem != nil {
			c.printf("What is kept cannot be listed: %s.\n", *b.KeptProblem)
		}
		if len(b.Kept) == 0 {
			return
		}
		fmt.Fprintln(c.out)
		var rows [][]string
		for _, k := range b.Kept {
			n := ""
			if k.Size != nil {
				n = size(*k.Size)
			}
			rows = append(rows, []string{k.Name, n})
		}
		c.table([]string{"KEPT", "SIZE"}, rows)
	})
}

// days says every how many days something happens.
func days(n int) string {
	if n == 1 {
		return "day"
	}
	return fmt.Sprint(n, " days")
}

func (c backupCommands) backupShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Where and when backups are made, and which was the last one",
		Args: cobra.NoArgs, RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			b, err := call[client.Backup](api.GetBackup(ctx))
			if err != nil {
				return err
			}
			return c.told(b)
		})}
}

func (c backupCommands) backupPlan() *cobra.Command {
	var seal sealFlags
	var folder, cabinet, at string
	var every, keep int
	off := false
	cmd := &cobra.Command{Use: "plan", Short: "Set where and when backups are made; the first one is made immediately",
		Args: cobra.NoArgs,
		Long: "Options that you leave out stay as they are. If no passphrase is kept yet, the command asks for one; the " +
			"service keeps it sealed. Keep it yourself, too: without it no backup can be opened."}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		now, err := call[client.Backup](api.GetBackup(ctx))
		if err != nil {
			return err
		}
		given := cmd.Flags().Changed
		s := client.BackupSettings{Place: client.BackupSettingsPlace(now.Place), Folder: &now.Folder,
			Cabinet: &now.Cabinet, At: &now.At, EveryDays: &now.EveryDays, Keep: &now.Keep, PublicKeys: &now.PublicKeys}
		switch {
		case off:
			s = client.BackupSettings{Place: "none"}
		case given("folder") && given("cabinet"):
			return usageError{errors.New("backups are kept in a folder or in a cabinet, not in both")}
		case given("folder"):
			s.Place, s.Folder = "folder", &folder
		case given("cabinet"):
			s.Place, s.Cabinet = "cabinet", &cabinet
		case now.Place == "none":
			return usageError{errors.New("say where backups are kept, with --folder or --cabinet")}
		}
		if given("at") {
			s.At = &at
		}
		if given("every-days") {
			s.EveryDays = &every
		}
		if given("keep") {
			s.Keep = &keep
		}
		if given("public-key") {
			s.PublicKeys = &seal.keys
		} else if !off && (given("passphrase-file") || !now.PassphraseKept && len(now.PublicKeys) == 0) {
			phrase, err := c.passphrase(seal.file)
			if err != nil {
				return err
			}
			s.Passphrase, s.PublicKeys = &phrase, nil
		}
		b, err := call[client.Backup](api.PlanBackups(ctx, &client.PlanBackupsParams{IfMatch: ifMatch(now.Revision)}, s))
		if err != nil {
			return err
		}
		return c.told(b)
	})
	seal.flags(cmd)
	cmd.Flags().StringVar(&folder, "folder", "", "the whole path of a folder on the service's machine")
	cmd.Flags().StringVar(&cabinet, "cabinet", "", "a cabinet, by its name; backups are in its folder “Ink Tray backups”")
	cmd.Flags().StringVar(&at, "at", "02:30", "time of the day")
	cmd.Flags().IntVar(&every, "every-days", 1, "days between two backups")
	cmd.Flags().IntVar(&keep, "keep", 14, "how many are kept; older ones are removed")
	cmd.Flags().BoolVar(&off, "off", false, "make no more backups by plan; earlier ones stay")
	return cmd
}

func (c backupCommands) backupMake() *cobra.Command {
	return &cobra.Command{Use: "make", Short: "Make a backup now at the place that is set, and wait for it",
		Args: cobra.NoArgs, RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			before, err := call[client.Backup](api.GetBackup(ctx))
			if err != nil {
				return err
			}
			b, err := call[client.Backup](api.MakeBackup(ctx))
			for err == nil && (b.RunningSince != nil || sameTries(&b, &before)) {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(200 * time.Millisecond):
				}
				b, err = call[client.Backup](api.GetBackup(ctx))
			}
			if err != nil {
				return err
			}
			if err := c.told(b); err != nil {
				return err
			}
			if b.Problem != nil {
				return &exitError{exitFailure, ""}
			}
			return nil
		})}
}

// sameTries says whether nothing came of a try yet.
func sameTries(now, before *client.Backup) bool {
	same := func(a, b *time.Time) bool { return a == nil && b == nil || a != nil && b != nil && a.Equal(*b) }
	var last, was *time.Time
	if now.Last != nil {
		last = &now.Last.At
	}
	if before.Last != nil {
		was = &before.Last.At
	}
	return same(last, was) && same(now.FailedAt, before.FailedAt)
}

func (c backupCommands) backupSave() *cobra.Command {
	var seal sealFlags
	cmd := &cobra.Command{Use: "save FILE", Short: "Make a backup now and save it here; - writes it to standard output",
		Args: cobra.ExactArgs(1),
		Long: "The backup is read back to its end while it is saved; if that fails, no file is left. It is an age file " +
			"with a Zstandard stream of a tar in it, and can be opened without Ink Tray."}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		body := client.BackupSeal{}
		var identity age.Identity
		if len(seal.keys) == 0 {
			phrase, err := c.passphrase(seal.file)
			if err != nil {
				return err
			}
			body.Passphrase = &phrase
			if identity, err = age.NewScryptIdentity(phrase); err != nil {
				return usageError{errors.New("a backup needs a passphrase, or --public-key")}
			}
		} else { // one more key, which is forgotten, to read it back
			once, err := age.GenerateX25519Identity()
			if err != nil {
				return err
			}
			keys := append(slices.Clone(seal.keys), once.Recipient().String())
			identity, body.PublicKeys = once, &keys
		}
		response, err := api.DownloadBackup(ctx, body)
		if err != nil {
			return err
		}
		defer response.Body.Close()
		if response.StatusCode >= 300 {
			_, err := call[nothing](response, nil)
			return err
		}
		contents, n, err := c.saved(ctx, response.Body, args[0], identity)
		if err != nil {
			return err
		}
		if args[0] == "-" {
			c.tellf("The backup is whole: %d files, %s.\n", len(contents.Files), size(n))
			return nil
		}
		return c.show(map[string]any{"file": args[0], "size": n, "files": len(contents.Files)}, func() {
			c.printf("Saved to %s: %d files, %s. It was read back to its end.\n", args[0], len(contents.Files),
				size(n))
		})
	})
	seal.flags(cmd)
	return cmd
}

// saved writes a backup and reads it back meanwhile.
func (c backupCommands) saved(ctx context.Context, from io.Reader, to string,
	id age.Identity) (contents backup.Contents, n int64, err error) {
	out := io.Writer(plain(c.out))
	part := to + ".part"
	if to != "-" {
		f, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
		if err != nil {
			return contents, 0, err
		}
		defer func() {
			err = errors.Join(err, f.Close())
			if err == nil {
				err = os.Rename(part, to)
			} else {
				_ = os.Remove(part)
			}
		}()
		defer func() {
			if err == nil {
				err = f.Sync()
			}
		}()
		out = f
	}
	counted := &countedWriter{to: out}
	both := io.TeeReader(from, counted)
	contents, err = backup.Read(ctx, both, nil, id)
	if err == nil {
		_, err = io.Copy(io.Discard, both)
	}
	if err != nil {
		err = fmt.Errorf("the backup did not come whole: %w", err)
	}
	return contents, counted.n, err
}

// countedWriter counts what is written.
type countedWriter struct {
	to io.Writer
	n  int64
}

func (w *countedWriter) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	w.n += int64(n)
	return n, err
}

// openFlags say how a backup is opened.
type openFlags struct{ passphrase, key string }

func (f *openFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.passphrase, "passphrase-file", "",
		"file that holds the passphrase; without it INKTRAY_BACKUP_PASSPHRASE or the prompt")
	cmd.Flags().StringVar(&f.key, "key-file", "", "file with the private key, where it is sealed for a public key")
}

// opening opens a backup file, or standard input, and what unseals it.
func (c backupCommands) opening(name string, f *openFlags) (io.ReadCloser, []age.Identity, error) {
	var phrase, keys string
	if f.key != "" {
		data, err := c.readFile(f.key)
		if err != nil {
			return nil, nil, err
		}
		keys = string(data)
	} else {
		if name == "-" && (f.passphrase == "" || f.passphrase == "-") && os.Getenv(passphraseVariable) == "" {
			return nil, nil, usageError{fmt.Errorf("the backup comes from standard input, so give the passphrase in a file or "+
				"in %s", passphraseVariable)}
		}
		var err error
		if phrase, err = c.passphrase(f.passphrase); err != nil {
			return nil, nil, err
		}
	}
	identities, err := backup.Identities(phrase, keys)
	if err != nil {
		return nil, nil, usageError{err}
	}
	if name == "-" {
		return io.NopCloser(bufio.NewReader(c.in)), identities, nil
	}
	file, err := os.Open(name)
	return file, identities, err
}

func (c backupCommands) backupCheck() *cobra.Command {
	var open openFlags
	cmd := &cobra.Command{Use: "check FILE", Short: "Read a whole backup and list what is in it; needs no service",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			file, identities, err := c.opening(args[0], &open)
			if err != nil {
				return err
			}
			defer file.Close()
			contents, err := backup.Read(cmd.Context(), file, nil, identities...)
			if err != nil {
				return wrongBackup(args[0], err)
			}
			return c.show(map[string]any{"about": contents.About, "files": contents.Files}, func() {
				c.printf("%s is whole. It is of %s and was made by Ink Tray %s; %d files, %s unpacked.\n", args[0],
					contents.About.MadeAt.Local().Format("2 January 2006, 15:04"), contents.About.Version, len(contents.Files),
					size(contents.Size()))
			})
		}}
	open.flags(cmd)
	return cmd
}

// wrongBackup says what is wrong with a backup.
func wrongBackup(name string, err error) error {
	var not *backup.Error
	if errors.As(err, &not) {
		return &exitError{exitFailure, fmt.Sprintf("%s cannot be used: %s", name, not)}
	}
	return err
}

func (c backupCommands) backupKey() *cobra.Command {
	return &cobra.Command{Use: "new-key FILE", Args: cobra.ExactArgs(1),
		Short: "Make a private key for backups and print the public one; no service is needed",
		Long: "With the public key the service seals backups that it cannot open itself. Keep the private key away from " +
			"the service's machine: without it no backup can be opened.",
		RunE: func(_ *cobra.Command, args []string) error {
			private, public, err := backup.NewKey()
			if err != nil {
				return err
			}
			f, err := os.OpenFile(args[0], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(f, "# Private key for backups of Ink Tray. The public one is %s\n%s\n", public, private)
			if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
				return err
			}
			return c.show(map[string]string{"public_key": public, "file": args[0]}, func() {
				c.printf("The private key is in %s. The public one is:\n\n   %s\n\n", args[0], public)
			})
		}}
}

// restore puts a backup back.
func (c backupCommands) restore() *cobra.Command {
	var open openFlags
	var of placeOptions
	data, at, yes := "", "", false
	cmd := &cobra.Command{Use: "restore [FILE]", Args: cobra.MaximumNArgs(1),
		Short: "Put a backup, or a state of a replica, into an empty folder; no service may run there",
		Long: "Reads the backup to its end before it changes anything. The service that you start on the folder then " +
			"compares itself with its mailboxes and cabinets before it files: it recognises what was filed, moved, replaced " +
			"or taken back after the backup. See it with inktray restored. The former installation must no longer " +
			"run.\n\nWith --of PLACE instead of a file, the state comes out of a replica: the newest one, or with --at TIME " +
			"the one of that time."}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		switch {
		case of.place != "" && len(args) > 0:
			return usageError{errors.New("the state comes out of a backup file or, with --of, out of a replica, not out of " +
				"both")}
		case of.place != "":
			return c.restoreReplica(cmd.Context(), &of, data, at, yes)
		case at != "":
			return usageError{errors.New("--at chooses a state of a replica; name the replica with --of")}
		case len(args) == 0:
			return usageError{errors.New("name the backup file to put back, or its replica with --of")}
		}
		question := fmt.Sprintf("Ink Tray puts the backup back into %s. The installation that it comes from must no "+
			"longer run. Go on?", data)
		if err := c.confirm(question, yes || args[0] == "-"); err != nil {
			return err
		}
		file, identities, err := c.opening(args[0], &open)
		if err != nil {
			return err
		}
		defer file.Close()
		contents, err := backup.Restore(cmd.Context(), file, data, func(c *backup.Contents, folder string) error {
			return beginComparison(cmd.Context(), folder, c.About.MadeAt)
		}, identities...)
		if err != nil {
			return wrongBackup(args[0], err)
		}
		about := contents.About
		return c.show(map[string]any{"folder": data, "about": about, "files": len(contents.Files)}, func() {
			c.printf("The backup of %s is in %s. Start the service on it:\n\n   inktray serve --data %s\n\n"+
				"It compares itself with mailboxes and cabinets first; inktray restored says how far it is.\n",
				about.MadeAt.Local().Format("2 January 2006, 15:04"), data, shellWord(data))
		})
	}
	open.flags(cmd)
	cmd.Flags().StringVar(&of.place, "of", "", "the place of a replica: "+placeHelp)
	cmd.Flags().StringVar(&at, "at", "", "with --of: the moment whose state is put back, such as 2026-09-01 14:30 (this "+
		"machine's zone) or 2026-09-01T12:30:00Z; without it the newest")
	of.openFlags(cmd.Flags())
	cmd.Flags().StringVar(&data, "data", defaultData(), "the folder for the records; has to be empty")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// beginComparison lets the service that is started on records compare them first with mailboxes and cabinets.
func beginComparison(ctx context.Context, folder string, made time.Time) error {
	records, err := store.Open(folder)
	if err != nil {
		return err
	}
	if err = records.Restored.Begin(ctx, made, time.Now()); err == nil {
		err = mailFolders(ctx, records, folder)
	}
	return errors.Join(err, records.Close())
}

// mailFolders makes the folders of mail that only Ink Tray holds, as far as a backup has none because they were empty.
func mailFolders(ctx context.Context, records *store.Store, data string) error {
	all, err := records.Mailboxes.All(ctx, store.System)
	for i := range all {
		if err == nil && mailboxes.OwnMail(&all[i]) {
			err = mailfile.Prepare(filepath.Join(data, "mail", all[i].ID))
		}
	}
	return err
}

// shellWord is a path as a shell takes it.
func shellWord(name string) string {
	if strings.ContainsAny(name, " \t'\"$&;()<>|*?\\") {
		return "'" + strings.ReplaceAll(filepath.Clean(name), "'", `'\''`) + "'"
	}
	return name
}

// restored tells of the comparison after a restoring.
func (c backupCommands) restored() *cobra.Command {
	end, yes := false, false
	cmd := &cobra.Command{Use: "restored", Args: cobra.NoArgs,
		Short: "How far a restored service has compared itself with mailboxes and cabinets"}
	cmd.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		var r client.Restored
		var err error
		if end {
			if err := c.confirm("The comparison then ends early: attachments of mailboxes and cabinets that it has not "+
				"looked through may be filed a second time. End it?", yes); err != nil {
				return err
			}
			r, err = call[client.Restored](api.EndComparison(ctx))
		} else {
			r, err = call[client.Restored](api.GetRestored(ctx))
		}
		var p *problem
		if errors.As(err, &p) && p.Status == 404 {
			return &exitError{exitMissing, "these records did not come out of a backup"}
		}
		if err != nil {
			return err
		}
		return c.show(r, func() { c.toldRestored(&r) })
	})
	cmd.Flags().BoolVar(&end, "end", false, "end the comparison, whatever it waits for")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (c backupCommands) toldRestored(r *client.Restored) {
	when := func(t time.Time) string { return t.Local().Format("2 January 2006, 15:04") }
	c.printf("The records are those of the backup of %s, put back at %s.\n", when(r.MadeAt), when(r.RestoredAt))
	switch {
	case r.EndedAt != nil && r.EndedBy != nil:
		c.printf("The comparison was ended by %s at %s.\n", *r.EndedBy, when(*r.EndedAt))
	case r.EndedAt != nil:
		c.printf("The comparison with mailboxes and cabinets was over at %s.\n", when(*r.EndedAt))
	default:
		c.println("The comparison with mailboxes and cabinets goes on.")
		if len(r.WaitsForCabinets) > 0 {
			c.println("It must still look through these cabinets: " + strings.Join(r.WaitsForCabinets, ", "))
		}
		if len(r.WaitsForMailboxes) > 0 {
			c.println("It must still look through these mailboxes: " + strings.Join(r.WaitsForMailboxes, ", "))
		}
		if r.WaitsForItems > 0 {
			c.printf("%d earlier attachments are still to be decided.\n", r.WaitsForItems)
		}
	}
	c.printf("\n%6d files in the cabinets were not in the backup\n%6d of these are recognised and in the "+
		"register again\n%6d filings of the backup had been taken back since\n", r.Files, r.Recognised, r.TakenBack)
	if r.Unknown != nil {
		c.printf("%6d files belong to no message in the mailboxes; inktray cabinets unknown lists them\n", *r.Unknown)
	}
	c.printf("%6d files of the register are not where they were filed\n", r.Missing)
	for _, one := range r.MissingExamples {
		fmt.Fprintln(c.out, "         "+one)
	}
}
