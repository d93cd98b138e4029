package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/core/rule"
)

// setting is a whole installation as one file.
type setting struct {
	Format    int            `json:"format" doc:"version of the document, 1"`
	Mailboxes []mailboxEntry `json:"mailboxes,omitempty" doc:"the mailboxes"`
	Cabinets  []cabinetEntry `json:"cabinets,omitempty" doc:"the cabinets"`
	Topics    []topicEntry   `json:"topics,omitempty" doc:"the topics for which rules ask"`
	Rules     []ruleEntry    `json:"rules,omitempty" doc:"the rules, in their order"`
}

// reference says where a secret is; a secret itself never is in the file.
type reference struct {
	File string `json:"file,omitempty" doc:"a file that holds it"`
	Env  string `json:"env,omitempty" doc:"an environment variable that holds it"`
}

type cabinetEntry struct {
	Name      string     `json:"name" doc:"what rules call it"`
	Kind      string     `json:"kind,omitempty" doc:"local, webdav, sftp or s3; else as the folder begins"`
	Folder    string     `json:"folder" doc:"whole path, or an address"`
	Mode      string     `json:"mode,omitempty" doc:"of files, in octal, such as 0640"`
	Owner     string     `json:"owner,omitempty" doc:"of files: user:group"`
	User      string     `json:"user,omitempty" doc:"name at the server, or access key"`
	Secret    *reference `json:"secret,omitempty" doc:"where the secret is"`
	Authority string     `json:"authority,omitempty" doc:"a file with certificates to trust"`
	Pinned    string     `json:"pinned,omitempty" doc:"fingerprint of the server's certificate"`
	Proxy     string     `json:"proxy,omitempty" doc:"socks5:// or http://"`
	HostKey   string     `json:"host_key,omitempty" doc:"sftp: fingerprint of the host key"`
	Region    string     `json:"region,omitempty" doc:"s3: region"`
}

// topicEntry is a topic, and from what it learns when it is made.
type topicEntry struct {
	Name  string `json:"name" doc:"what rules call it"`
	Learn string `json:"learn,omitempty" doc:"a file that topics export wrote"`
}

// ruleEntry is a rule document and whether it runs.
type ruleEntry struct {
	On *bool `json:"on,omitempty" doc:"whether the rule runs; where nothing is said it stays as it is, and a new one is off"`
	rule.Rule
}

func (r reference) read(base string) (string, error) {
	switch {
	case r.File != "" && r.Env != "":
		return "", errors.New("a secret is either in a file or in the environment")
	case r.Env != "":
		s := os.Getenv(r.Env)
		if s == "" {
			return "", fmt.Errorf("the environment variable %s is empty", r.Env)
		}
		return s, nil
	case r.File != "":
		data, err := os.ReadFile(beside(base, r.File))
		return strings.TrimRight(string(data), "\r\n"), err
	}
	return "", errors.New("the place of the secret is missing: file or env")
}

// change is one thing that apply would do.
type change struct {
	Kind   string `json:"kind"` // add, change, on, off, order
	What   string `json:"what"`
	Detail string `json:"detail,omitempty"`
	do     func(ctx context.Context) error
}

func (c applyCommands) apply() *cobra.Command {
	var preview, yes bool
	cmd := &cobra.Command{
		Use: "apply FILE", Short: "Set mailboxes, cabinets, topics and rules from one file", Args: cobra.ExactArgs(1),
		Long: "Compares the file with the service, shows what would change, and changes it after you confirm. What the " +
			"file does not name stays as it is. Applying the same file again changes nothing.\nThe file holds secrets by " +
			"reference only: secret: {env: NAME} or secret: {file: PATH}. An existing mailbox keeps its secret; " +
			"--new-secrets is `inktray mailboxes change NAME --new-secret`.",
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := c.readFile(args[0])
			if err != nil {
				return err
			}
			var s setting
			if err := rule.Decode(data, &s); err != nil {
				return fileProblems(args[0], err)
			}
			if s.Format != rule.Format {
				return &exitError{exitInvalid,
					fmt.Sprintf("%s: the file has format %d; this version reads format %d", args[0], s.Format, rule.Format)}
			}
			for i := range s.Rules { // what can be checked without the service, before anything is done
				if _, err := rule.Compile(&s.Rules[i].Rule, 0, nil); err != nil {
					var problems rule.Problems
					if errors.As(err, &problems) {
						for k := range problems {
							problems[k].Place = fmt.Sprintf("rules[%d].%s", i, problems[k].Place)
						}
						return fileProblems(args[0], problems)
					}
					return err
				}
			}
			api, err := c.connect()
			if err != nil {
				return err
			}
			changes, err := c.compare(cmd.Context(), api, &s, filepath.Dir(args[0]))
			if err != nil {
				return err
			}
			return c.carryOut(cmd.Context(), changes, preview, yes)
		},
	}
	cmd.Flags().BoolVar(&preview, "preview", false, "only show what would change; exit code 7 where something would")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (c applyCommands) carryOut(ctx context.Context, changes []change, preview, yes bool) error {
	if len(changes) == 0 {
		return c.show([]change{}, func() { c.println("Nothing to change: the service is as the file says.") })
	}
	if err := c.show(changes, func() {
		for _, one := range changes {
			c.printf("%-7s %s\n", one.Kind, one.What)
			for _, line := range strings.Split(strings.TrimSpace(one.Detail), "\n") {
				if line != "" {
					fmt.Fprintln(c.out, "        "+line)
				}
			}
		}
	}); err != nil {
		return err
	}
	if preview {
		return &exitError{code: exitPending}
	}
	if !yes {
		f, ok := c.in.(*os.File)
		if !ok || !term.IsTerminal(int(f.Fd())) {
			return usageError{errors.New("add --yes to confirm: this command is not running in a terminal. --preview " +
				"shows what would change")}
		}
		c.tellf("Make these changes? Type yes: ")
		answer, err := bufio.NewReader(c.in).ReadString('\n')
		if err != nil || strings.TrimSpace(answer) != "yes" {
			return &exitError{exitFailure, "nothing was changed"}
		}
	}
	for i, one := range changes {
		if err := one.do(ctx); err != nil {
			return fmt.Errorf("%s %s (after %d of %d changes; correct it and apply again): %w", one.Kind, one.What, i,
				len(changes), err)
		}
	}
	if c.format != "json" {
		c.printf("%d changes made.\n", len(changes))
	}
	return nil
}

// settings are those with which a cabinet is added.
func (k *cabinetEntry) settings(base string) (client.CabinetSettings, error) {
	kind, err := kindOf(k.Kind, k.Folder)
	if err != nil {
		return client.CabinetSettings{}, err
	}
	as := client.CabinetKind(kind)
	set := client.CabinetSettings{Name: k.Name, Kind: &as, Folder: k.Folder, Mode: given(k.Mode), Owner: given(k.Owner),
		Username: given(k.User), Pinned: given(k.Pinned), Proxy: given(k.Proxy), HostKey: given(k.HostKey),
		Region: given(k.Region)}
	if k.Secret != nil {
		secret, err := k.Secret.read(base)
		if err != nil {
			return set, err
		}
		set.Secret = &secret
	}
	if k.Authority != "" {
		data, err := os.ReadFile(beside(base, k.Authority))
		if err != nil {
			return set, err
		}
		set.Authority = given(string(data))
	}
	return set, nil
}

// compare lists what has to change so that the service is as the file says.
func (c applyCommands) compare(ctx context.Context, api *client.Client, s *setting, base string) ([]change, error) {
	changes, err := c.compareMailboxes(ctx, api, s.Mailboxes, base)
	if err != nil {
		return nil, err
	}
	cabinets, err := call[[]client.Cabinet](api.ListCabinets(ctx))
	if err != nil {
		return nil, err
	}
	for _, k := range s.Cabinets {
		at := slices.IndexFunc(cabinets, func(b client.Cabinet) bool { return strings.EqualFold(b.Name, k.Name) })
		switch {
		case at < 0:
			set, err := k.settings(base)
			if err != nil {
				return nil, &exitError{exitInvalid, fmt.Sprintf("the cabinet “%s”: %s", k.Name, inWords(err))}
			}
			changes = append(changes, change{"add", "cabinet " + k.Name, k.Folder, func(ctx context.Context) error {
				_, err := call[client.Cabinet](api.AddCabinet(ctx, set))
				return err
			}})
		case cabinets[at].Folder != k.Folder:
			return nil, &exitError{exitInvalid,
				fmt.Sprintf("the cabinet “%s” is %s and does not become %s by a file; move it: inktray cabinets move %q", k.Name,
					cabinets[at].Folder, k.Folder, k.Name)}
		}
	}
	topics, err := c.compareTopics(ctx, api, s.Topics, base)
	if err != nil {
		return nil, err
	}
	return c.compareRules(ctx, api, s.Rules, append(changes, topics...))
}

// compareTopics lists the topics that are missing. An existing topic keeps its examples.
func (c applyCommands) compareTopics(ctx context.Context, api *client.Client, wanted []topicEntry,
	base string) ([]change, error) {
	if len(wanted) == 0 {
		return nil, nil
	}
	there, err := call[[]client.Topic](api.ListTopics(ctx))
	if err != nil {
		return nil, err
	}
	var changes []change
	for _, w := range wanted {
		if slices.ContainsFunc(there, func(t client.Topic) bool { return strings.EqualFold(t.Name, w.Name) }) {
			continue
		}
		if w.Learn == "" {
			changes = append(changes, change{"add", "topic " + w.Name, "knows nothing yet", func(ctx context.Context) error {
				_, err := call[client.Topic](api.AddTopic(ctx, client.TopicSettings{Name: w.Name}))
				return err
			}})
			continue
		}
		data, err := os.ReadFile(beside(base, w.Learn))
		if err != nil {
			return nil, &exitError{exitInvalid, fmt.Sprintf("the topic “%s”: %s", w.Name, inWords(err))}
		}
		learns, err := exportedTopic(w.Learn, data)
		if err != nil {
			return nil, err
		}
		learns.Name = w.Name
		changes = append(changes,
			change{"add", "topic " + w.Name,
				fmt.Sprintf("learns from %s in %s", count(len(learns.Examples), "example"), w.Learn),
				func(ctx context.Context) error {
					_, err := call[client.Topic](api.ImportTopic(ctx, learns))
					return err
				}})
	}
	return changes, nil
}

func (c *command) compareRules(ctx context.Context, api *client.Client, wanted []ruleEntry, changes []change) ([]change,
	error) {
	rules, err := call[[]client.Rule](api.ListRules(ctx))
	if err != nil {
		return nil, err
	}
	if err := c.renamed(ctx, api, wanted); err != nil {
		return nil, err
	}
	for i := range wanted {
		w := &wanted[i]
		at := slices.IndexFunc(rules, func(r client.Rule) bool {
			return w.ID != "" && r.ID == w.ID || w.ID == "" && strings.EqualFold(r.Name, w.Name)
		})
		id, running := w.ID, false
		if at >= 0 {
			id, running = rules[at].ID, rules[at].Running
			w.ID = id
		}
		from := w.Revision
		w.Revision = 0
		plain, err := json.Marshal(&w.Rule)
		if err != nil {
			return nil, err
		}
		if w.Revision = from; at >= 0 && from == 0 {
			w.Revision = rules[at].Revision // as it was when it was compared
		}
		body, err := json.Marshal(&w.Rule)
		if err != nil {
			return nil, err
		}
		save := func(ctx context.Context) error {
			r, err := call[client.Rule](api.AddRule(ctx, body))
			id = r.ID
			return err
		}
		if at < 0 {
			changes = append(changes, change{"add", "rule " + w.Name, wrap(sentence(&w.Rule), 92), save})
		} else {
			var is bytes.Buffer
			if err := json.Compact(&is, rules[at].Document); err != nil {
				return nil, err
			}
			if is.String() != string(plain) {
				if w.Revision != rules[at].Revision {
					return nil, &exitError{exitInvalid,
						fmt.Sprintf("the rule “%s” was changed since this file was made: the file is from revision %d, and the rule "+
							"has revision %d. They differ so:\n  %s\nMake your change in a file of the present state, or take the line "+
							"“revision” out of the file to write over it",
							w.Name, w.Revision, rules[at].Revision,
							strings.ReplaceAll(differences(rules[at].Document, plain), "\n", "\n  "))}
				}
				changes = append(changes, change{"change", "rule " + w.Name, differences(rules[at].Document, plain), save})
			}
		}
		switch {
		case w.On != nil && *w.On && !running:
			changes = append(changes,
				change{"on", "rule " + w.Name, "files mail that arrives from then on", func(ctx context.Context) error {
					_, err := call[client.Rule](api.SwitchRuleOn(ctx, id, client.SwitchOnRequest{}))
					return err
				}})
		case w.On != nil && !*w.On && running:
			changes = append(changes, change{"off", "rule " + w.Name, "", func(ctx context.Context) error {
				_, err := call[client.Rule](api.SwitchRuleOff(ctx, id))
				return err
			}})
		}
	}
	return changes, nil
}

// renamed asks of rules whose names are not known whether they are others under
// a new name. Where nobody is there to answer they are new, and the question is
// written beside the change.
func (c *command) renamed(ctx context.Context, api *client.Client, wanted []ruleEntry) error {
	document := rule.Document{Format: rule.Format}
	for i := range wanted {
		document.Rules = append(document.Rules, wanted[i].Rule)
	}
	if len(document.Rules) == 0 {
		return nil
	}
	text, err := json.Marshal(document)
	if err != nil {
		return err
	}
	changes, err := call[[]client.RuleChange](api.CompareRules(ctx, client.ImportRequest{Document: string(text)}))
	if err != nil {
		return err
	}
	for i, one := range changes {
		if one.Renamed == nil {
			continue
		}
		answer, err := c.ask(fmt.Sprintf("Is “%s” the rule “%s” renamed? Type yes or no: ", one.Name, one.Renamed.Name))
		switch {
		case err != nil:
			c.tellf("Is “%s” the rule “%s” renamed? Then write `id: %s` into it; without it, it is a new rule.\n",
				one.Name, one.Renamed.Name, one.Renamed.ID)
		case answer == "yes":
			wanted[i].ID = one.Renamed.ID
		}
	}
	return nil
}

// sentence says a rule in plain words.
func sentence(r *rule.Rule) string {
	c, err := rule.Compile(r, 0, nil)
	if err != nil {
		return ""
	}
	return c.Sentence()
}

// differences shows two documents' lines that are not in both.
func differences(is, wanted []byte) string {
	lines := func(document []byte) []string {
		r, err := rule.ParseRule(document)
		if err != nil {
			return nil
		}
		text, err := rule.YAML(r)
		if err != nil {
			return nil
		}
		return strings.Split(strings.TrimSpace(string(text)), "\n")
	}
	before, after := lines(is), lines(wanted)
	var out []string
	for _, l := range before {
		if !slices.Contains(after, l) {
			out = append(out, "was: "+strings.TrimSpace(l))
		}
	}
	for _, l := range after {
		if !slices.Contains(before, l) {
			out = append(out, "now: "+strings.TrimSpace(l))
		}
	}
	return strings.Join(out, "\n")
}
