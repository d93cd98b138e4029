package cli

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"inktray.example/inktray/client"
)

func (c checkupCommands) doctor() *cobra.Command {
	return &cobra.Command{
		Use: "doctor", Short: "Check everything that Ink Tray needs, and say what to do", Args: cobra.NoArgs,
		Long: "Checks the records, the disk, the clock, every mailbox and cabinet, the certificate, backups, the replica " +
			"and everything else that Ink Tray needs. It can take 40 seconds. It changes nothing: in a cabinet it makes " +
			"small files of its own, and removes them.\n\n" +
			"The exit code is 0 if everything works, also if something needs attention, and 1 if something is wrong.",
		Example: "  inktray doctor\n  inktray doctor --output json | jq '.findings[] | select(.state == \"wrong\")'",
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			found, err := call[client.Checkup](api.CheckEverything(ctx))
			if err != nil {
				return err
			}
			if err := c.show(found, func() { c.findings(&found) }); err != nil {
				return err
			}
			if found.State == client.Wrong {
				return &exitError{code: exitFailure}
			}
			return nil
		}),
	}
}

// findings prints what was found, and then what to do about it.
func (c checkupCommands) findings(found *client.Checkup) {
	var rows [][]string
	todo := 0
	for _, f := range found.Findings {
		rows = append(rows, []string{string(f.State), f.About, deref(f.Name), f.Text})
		if f.Advice != nil {
			todo++
		}
	}
	c.table([]string{"STATE", "CHECKED", "NAME", "FOUND"}, rows)
	if todo == 0 {
		c.println("\nEverything that is set up works.")
		return
	}
	c.println("\nWhat to do:")
	for _, f := range found.Findings {
		if f.Advice != nil {
			c.printf("  %s: %s\n", strings.TrimSpace(f.About+" "+deref(f.Name)), *f.Advice)
		}
	}
}

// aboutBundle is the first file in a support bundle.
const aboutBundle = `This bundle describes an installation of Ink Tray for somebody who helps with it.

It holds:
  checkup.json    what was found of records, disk, mailboxes, cabinets and everything else
  metrics.txt     counts
  version.json    which version runs
  mailboxes.json  the mailboxes: hosts, names to sign in with, states
  cabinets.json   the cabinets: places, names to sign in with, states
  rules.json      which rules there are, and whether they are on, without their conditions
  passes.json     what the last passes did, as numbers, without who began them
  limits.json     the limits

It holds no password, token, key or drop address, and nothing of messages: no sender, subject, text or file.
Host names, names to sign in with and the paths of folders are in it. Look through it before you send it.
The log of the service is not in it: add the lines around the moment in question if you are asked for them.
`

func (c checkupCommands) supportBundle() *cobra.Command {
	return &cobra.Command{
		Use: "support-bundle FILE", Short: "Write a zip file that describes this installation, without secrets or messages",
		Args: cobra.ExactArgs(1),
		Long: "Writes a zip file for somebody who helps with this installation: the check-up, counts, mailboxes, cabinets, " +
			"rules and passes. It holds no password and nothing of messages. README.txt in it says what it holds. Look " +
			"through it before you send it.",
		Example: "  inktray support-bundle ink-tray-support.zip",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			if _, err := os.Lstat(args[0]); err == nil {
				return &exitError{exitInvalid, fmt.Sprintf("there is a file “%s” already: choose another name", args[0])}
			}
			files, err := bundle(ctx, api)
			if err != nil {
				return err
			}
			if err := writeZip(args[0], files); err != nil {
				return err
			}
			c.printf("%s describes this installation. It holds no password and nothing of messages.\n"+
				"Look through it before you send it: README.txt in it says what it holds.\n", args[0])
			return nil
		}),
	}
}

// bundled is a file of the bundle.
type bundled struct {
	name    string
	content []byte
}

// bundle collects what describes an installation.
func bundle(ctx context.Context, api *client.Client) ([]bundled, error) {
	files := []bundled{{"README.txt", []byte(aboutBundle)}}
	add := func(name string, v any, err error) error {
		if err != nil {
			return err
		}
		content, err := json.MarshalIndent(v, "", "  ")
		files = append(files, bundled{name, append(content, '\n')})
		return err
	}
	found, err := call[client.Checkup](api.CheckEverything(ctx))
	if err := add("checkup.json", found, err); err != nil {
		return nil, err
	}
	response, err := api.GetMetrics(ctx)
	if err != nil {
		return nil, err
	}
	counts, err := io.ReadAll(io.LimitReader(response.Body, 16<<20))
	if err := errors.Join(err, response.Body.Close()); err != nil {
		return nil, err
	}
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the service answers %s when it is asked for its counts", response.Status)
	}
	files = append(files, bundled{"metrics.txt", counts})
	version, err := call[client.Version](api.GetVersion(ctx))
	if err := add("version.json", map[string]any{"service": version, "program": Version}, err); err != nil {
		return nil, err
	}
	boxes, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
	for i := range boxes {
		m := &boxes[i]
		m.Address, m.Word, m.Proxy, m.Senders = nil, nil, nil, nil // a proxy's password may be in its address
	}
	if err := add("mailboxes.json", boxes, err); err != nil {
		return nil, err
	}
	cabinets, err := call[[]client.Cabinet](api.ListCabinets(ctx))
	for i := range cabinets {
		cabinets[i].Proxy = nil
	}
	if err := add("cabinets.json", cabinets, err); err != nil {
		return nil, err
	}
	rules, err := call[[]client.Rule](api.ListRules(ctx))
	type one struct {
		Name     string `json:"name"`
		On       bool   `json:"on"`
		Revision int    `json:"revision"`
	}
	known := []one{}
	for i := range rules {
		known = append(known, one{rules[i].Name, rules[i].Running, rules[i].Revision})
	}
	if err := add("rules.json", known, err); err != nil {
		return nil, err
	}
	passes, err := call[[]client.Pass](api.ListPasses(ctx, &client.ListPassesParams{}))
	for i := range passes {
		passes[i].Note, passes[i].MadeBy = "", ""
	}
	if err := add("passes.json", passes, err); err != nil {
		return nil, err
	}
	limits, err := call[client.Limits](api.GetLimits(ctx))
	return files, add("limits.json", limits, err)
}

// writeZip writes files into a new zip file. Where that fails, nothing is left.
func writeZip(name string, files []bundled) (err error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(name))
		}
	}()
	z := zip.NewWriter(f)
	for _, one := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: one.name, Method: zip.Deflate, Modified: time.Now()})
		if err == nil {
			_, err = w.Write(one.content)
		}
		if err != nil {
			return errors.Join(err, f.Close())
		}
	}
	return errors.Join(z.Close(), f.Close())
}

func (c checkupCommands) manual() *cobra.Command {
	return &cobra.Command{
		Use: "manual FOLDER", Short: "Write a manual page of each command into a folder", Args: cobra.ExactArgs(1),
		Long: "Writes a manual page (section 1) of each command into a folder, which is made if it is not there.\n\n" +
			"To read one: man -l FOLDER/inktray-rules.1",
		Example: "  inktray manual /usr/local/share/man/man1",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			c.speakAll(root)
			root.DisableAutoGenTag = true // the same pages for the same program
			if err := doc.GenManTree(root, &doc.GenManHeader{Title: "INKTRAY", Section: "1", Source: "Ink Tray " + Version,
				Manual: "Ink Tray"}, args[0]); err != nil {
				return err
			}
			pages, err := filepath.Glob(filepath.Join(args[0], "inktray*.1"))
			if err != nil {
				return err
			}
			c.printf("%d manual pages are in %s.\n", len(pages), args[0])
			return nil
		},
	}
}

// completed are the lists from which names are completed, by the group of commands.
var completed = map[string]func(ctx context.Context, api *client.Client) (*http.Response, error){
	"mailboxes": func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListMailboxes(ctx) },
	"cabinets":  func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListCabinets(ctx) },
	"rules":     func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListRules(ctx) },
	"topics":    func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListTopics(ctx) },
	"tables":    func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListTables(ctx) },
	"machines":  func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListMachines(ctx) },
	"alarms":    func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListAlarms(ctx) },
	"notifications": func(ctx context.Context, api *client.Client) (*http.Response, error) {
		return api.ListAddressees(ctx)
	},
	"people": func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListPeople(ctx) },
	"groups": func(ctx context.Context, api *client.Client) (*http.Response, error) { return api.ListGroups(ctx) },
	"correspondents": func(ctx context.Context, api *client.Client) (*http.Response, error) {
		return api.ListCorrespondents(ctx)
	},
}

// longestCompletion bounds how long a shell waits for names.
const longestCompletion = 2 * time.Second

// completes lets shells complete the names of what there is, and the values of options.
func completes(c *command, root *cobra.Command) {
	names := func(group string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return func(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
			ctx, cancel := context.WithTimeout(context.Background(), longestCompletion)
			defer cancel()
			api, err := c.connect()
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			all, err := call[[]struct{ Name string }](completed[group](ctx, api))
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			var fit []string
			for _, one := range all {
				if strings.HasPrefix(strings.ToLower(one.Name), strings.ToLower(begun)) {
					fit = append(fit, one.Name)
				}
			}
			return fit, cobra.ShellCompDirectiveNoFileComp
		}
	}
	for _, group := range root.Commands() {
		if completed[group.Name()] == nil {
			continue
		}
		for _, sub := range group.Commands() {
			words := strings.Fields(sub.Use)
			if len(words) > 1 && strings.HasPrefix(words[1], "NAME") && sub.Name() != "add" && sub.Name() != "invite" {
				sub.ValidArgsFunction = names(group.Name())
			}
		}
	}
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for option, group := range map[string]string{"mailbox": "mailboxes", "cabinet": "cabinets", "rule": "rules",
			"topic": "topics", "tell": "notifications"} {
			if cmd.Flags().Lookup(option) != nil {
				certain(cmd.RegisterFlagCompletionFunc(option, names(group)))
			}
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(root)
	certain(root.RegisterFlagCompletionFunc("output", func(*cobra.Command, []string, string) ([]string,
		cobra.ShellCompDirective) {
		return []string{"table", "json"}, cobra.ShellCompDirectiveNoFileComp
	}))
}

// certain stops at a mistake in the program itself.
func certain(err error) {
	if err != nil {
		panic(err)
	}
}
