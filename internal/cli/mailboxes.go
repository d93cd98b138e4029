package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

func (c mailboxCommands) mailboxes() *cobra.Command {
	root := &cobra.Command{Use: "mailboxes", Short: "Mailboxes: where messages arrive"}
	root.AddCommand(c.mailboxList(), showing(c.command, "Show a mailbox with its settings and how it does", findMailbox),
		c.handOver(), c.takeOver(), c.move(), &cobra.Command{
			Use: "folders NAME", Short: "List the folders of a mailbox", Args: cobra.ExactArgs(1),
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
						whose := ""
						if f.Shared != nil && *f.Shared {
							whose = "shared"
						}
						if f.Unreadable != nil && *f.Unreadable {
							whose = "its name cannot be read, so no rule looks into it"
						}
						rows = append(rows, []string{f.Path, f.Role, whose})
					}
					c.table([]string{"FOLDER", "ROLE", "REMARK"}, rows)
				})
			}),
		}, c.mailboxRemove(), c.mailboxTry(), c.mailboxAdd(), c.mailboxChange(), c.mailboxCheck(), c.mailboxFind(),
		c.mailboxAddress(), c.mailboxSignIn())
	return root
}

// mailboxRemove asks before it removes, since messages that only Ink Tray keeps are lost.
func (c mailboxCommands) mailboxRemove() *cobra.Command {
	yes := false
	cmd := &cobra.Command{
		Use: "remove NAME", Short: "Remove a mailbox; filed files and the register stay", Args: cobra.ExactArgs(1),
		Long: "Ink Tray no longer watches the mailbox and forgets its password. Filed files and the register stay. " +
			"Messages that only Ink Tray keeps, of a drop address or of files, are deleted: the command says how many, " +
			"and asks.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			remains, err := call[client.MailboxRemains](api.GetMailboxRemains(ctx, m.ID))
			if err != nil {
				return err
			}
			if len(remains.UsedBy) == 0 { // else the service refuses, and says why
				loses := ""
				if remains.MessagesOnlyHere > 0 {
					loses += fmt.Sprintf("%s that only Ink Tray keeps will be deleted. ", count(remains.MessagesOnlyHere, "message"))
				}
				if remains.Waiting > 0 {
					loses += fmt.Sprintf("%d waiting to be filed or in the tray will not be filed. ", remains.Waiting)
				}
				if err := c.confirm(fmt.Sprintf("Ink Tray no longer watches the mailbox “%s” and forgets its password. "+
					"%sRemove it?", m.Name, loses), yes); err != nil {
					return err
				}
			}
			if _, err := call[nothing](api.RemoveMailbox(ctx, m.ID)); err != nil {
				return err
			}
			c.printf("The mailbox “%s” is removed. Its filed files and the register stay.\n", m.Name)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "remove without asking")
	return cmd
}

func (c mailboxCommands) mailboxTry() *cobra.Command {
	return &cobra.Command{
		Use: "try NAME", Short: "Try to reach a mailbox now, without waiting for the end of the pause after a failure",
		Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			if _, err := call[nothing](api.TryMailbox(ctx, m.ID)); err != nil {
				return err
			}
			c.printf("Ink Tray tries to reach “%s” now. See its state: inktray mailboxes list\n", m.Name)
			return nil
		}),
	}
}

// where says in a word where a mailbox's mail is.
func where(m *client.Mailbox) string {
	switch m.Kind {
	case "drop":
		if deref(m.Address) == "" {
			return "closed"
		}
		return *m.Address
	case "maildir":
		return deref(m.Path)
	case "files":
		return "files that were taken in"
	}
	return m.Username + " at " + m.Host
}

func (c mailboxCommands) mailboxList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the mailboxes with their states", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for i := range all {
					m := &all[i]
					rows = append(rows, []string{m.Name, m.Kind, where(m), m.Encryption, string(m.State), short(m.Problem, 60)})
				}
				c.table([]string{"NAME", "KIND", "WHERE", "ENCRYPTION", "STATE", "PROBLEM"}, rows)
			})
		}),
	}
}

// mailboxFlags are the settings of a mailbox as flags.
type mailboxFlags struct {
	kind, host, encryption, user, secretFile string
	port, interval, leaveDays                int
	path, authority, pinned, proxy           string
	issuer, client, clientSecretFile         string
	authorize, token, device                 string
	scopes, senders                          []string
	word                                     string
}

func (f *mailboxFlags) add(cmd *cobra.Command) {
	v := cmd.Flags()
	v.StringVar(&f.host, "host", "", "name of the mail server")
	v.IntVar(&f.port, "port", 0, "0 for the usual one: 993, 995 or 443 with tls, else 143, 110 or 80")
	v.StringVar(&f.encryption, "encryption", "tls", "tls, starttls, or none (the secret can be read on the way)")
	v.StringVar(&f.user, "user", "", "name to sign in with")
	v.StringVar(&f.secretFile, "password-file", "", "file that holds the password; else INKTRAY_SECRET or the prompt")
	v.IntVar(&f.interval, "interval", 60, "seconds between looks into folders that the server does not announce")
	v.StringVar(&f.path, "path", "", "of a maildir: whole path of the folder that holds cur, new and tmp")
	v.StringVar(&f.authority, "authority-file", "",
		"file with certificates of authorities that are trusted for this server, PEM")
	v.StringVar(&f.pinned, "pinned", "", "SHA-256 fingerprint of the server's certificate; Ink Tray then trusts this "+
		"certificate alone")
	v.StringVar(&f.proxy, "proxy", "", "socks5://host:port or http://host:port")
	v.IntVar(&f.leaveDays, "leave-days", 0,
		"take messages off a POP3 server, or remove them from a drop address or a mailbox of files, so many days after "+
			"they came; 0 keeps them")
	v.StringVar(&f.issuer, "issuer", "", "sign in by consent: who issues it, such as https://sign-in.brackwater.example")
	v.StringVar(&f.client, "client", "", "the client id that the issuer gave this program; with it, no password is "+
		"asked for")
	v.StringVar(&f.clientSecretFile, "client-secret-file", "",
		"file that holds the secret of the program, where the issuer gave one")
	v.StringVar(&f.authorize, "authorize-url", "", "where a browser gives consent, if the issuer does not publish it")
	v.StringVar(&f.token, "token-url", "", "where tokens are given, likewise")
	v.StringVar(&f.device, "device-url", "", "where codes for other devices are given, likewise")
	v.StringSliceVar(&f.scopes, "scope", nil, "what consent is asked for; several may be named")
	v.StringSliceVar(&f.senders, "sender", nil,
		"of a drop address: who may send to it, an address or a domain; they must be proven. Several may be named; none "+
			"for anyone")
}

// apply puts the flags that were given into settings.
func (f *mailboxFlags) apply(c *command, s *client.MailboxSettings, given func(string) bool) error {
	texts := map[string]struct {
		to   **string
		from string
	}{"path": {&s.Path, f.path}, "pinned": {&s.Pinned, f.pinned}, "proxy": {&s.Proxy, f.proxy}}
	for name, t := range texts {
		if given(name) {
			value := t.from
			*t.to = &value
		}
	}
	if given("authority-file") {
		data := []byte{}
		if f.authority != "" {
			var err error
			if data, err = c.readFile(f.authority); err != nil {
				return &exitError{exitUsage, fmt.Sprintf("the certificates cannot be read: %s", inWords(err))}
			}
		}
		pem := string(data)
		s.Authority = &pem
	}
	if given("host") {
		s.Host = f.host
	}
	if given("port") {
		s.Port = &f.port
	}
	if given("encryption") {
		s.Encryption = client.MailboxSettingsEncryption(f.encryption)
	}
	if given("user") {
		s.Username = f.user
	}
	if given("interval") {
		s.IntervalSeconds = &f.interval
	}
	if given("leave-days") {
		s.LeaveDays = &f.leaveDays
	}
	if given("sender") {
		senders := []string{}
		for _, one := range f.senders {
			if one != "" {
				senders = append(senders, one)
			}
		}
		s.Senders = &senders
	}
	if !given("client") && s.Consent == nil {
		return nil
	}
	if s.Consent == nil {
		s.Consent = &client.Consent{}
	}
	if given("client") {
		s.Consent.ClientID = f.client
	}
	for name, t := range map[string]struct {
		to   **string
		from string
	}{"issuer": {&s.Consent.Issuer, f.issuer}, "authorize-url": {&s.Consent.Authorize, f.authorize},
		"token-url": {&s.Consent.Token, f.token}, "device-url": {&s.Consent.Device, f.device}} {
		if given(name) {
			value := t.from
			*t.to = &value
		}
	}
	if given("scope") {
		s.Consent.Scopes = &f.scopes
	}
	if f.clientSecretFile != "" {
		secret, err := c.secret(f.clientSecretFile, "INKTRAY_CLIENT_SECRET", "Secret of the program")
		if err != nil {
			return err
		}
		s.Consent.ClientSecret = &secret
	}
	return nil
}

// needsSecret says whether a mailbox is signed in to with a password.
func needsSecret(s *client.MailboxSettings) bool {
	return s.Consent == nil && (s.Kind == nil || account(string(*s.Kind)))
}

func (c mailboxCommands) mailboxAdd() *cobra.Command {
	f, unchecked := &mailboxFlags{}, false
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Add a mailbox and begin to watch it", Args: cobra.ExactArgs(1),
		Long: "Adds a mailbox. --kind says which: imap, pop3 or jmap, an account on a mail server; drop, an address at " +
			"which Ink Tray itself receives mail; maildir, a folder of mail on the machine that runs Ink Tray; files, mail " +
			"that is taken in from files. Ink Tray first tries to reach the mailbox, and adds it only if that works; " +
			"--unchecked adds it in any case.",
		Example: "  inktray mailboxes add gauges --host imap.brackwater.example --user gauges@brackwater.example\n" +
			"  inktray mailboxes add \"to the gauges\" --kind drop --word gauges --sender tidewatch.example\n" +
			"  inktray mailboxes add pilots --host imap.brackwater.example --user pilots@brackwater.example --issuer " +
			"https://sign-in.brackwater.example --client inktray",
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := c.connect()
			if err != nil {
				return err
			}
			kind := client.MailboxSettingsKind(f.kind)
			s := client.MailboxSettings{Name: args[0], Kind: &kind, Encryption: client.MailboxSettingsEncryption(f.encryption),
				IntervalSeconds: &f.interval}
			if kind == "drop" && f.word != "" {
				s.Word = &f.word
			}
			if err := f.apply(c.command, &s, cmd.Flags().Changed); err != nil {
				return err
			}
			if needsSecret(&s) {
				secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "Secret of "+f.user)
				if err != nil {
					return err
				}
				s.Secret = &secret
			}
			if !unchecked {
				if err := c.checkFirst(cmd.Context(), api, s); err != nil {
					return err
				}
			}
			m, err := call[client.Mailbox](api.AddMailbox(cmd.Context(), s))
			if err != nil {
				return err
			}
			return c.show(m, func() {
				switch {
				case deref(m.Address) != "":
					c.printf("“%s” receives mail at\n\n    %s\n\nAnyone who knows the address can send to it", m.Name,
						*m.Address)
					if m.Senders != nil && len(*m.Senders) > 0 {
						c.printf(" if it is proven that the message comes from %s", strings.Join(*m.Senders, ", "))
					}
					fmt.Fprintln(c.out, ".")
				case m.Consent != nil:
					c.printf("“%s” is there. Sign in to it: inktray mailboxes sign-in %s\n", m.Name, inShell(m.Name))
				case m.Kind == "files":
					c.printf("“%s” is there. Take mail in: inktray messages take-in FILE... --mailbox %s\n", m.Name,
						inShell(m.Name))
				default:
					c.printf("“%s” is being watched. See its state: inktray mailboxes check %s\n", m.Name, inShell(m.Name))
				}
			})
		},
	}
	cmd.Flags().StringVar(&f.kind, "kind", "imap", "imap, pop3, jmap, drop, maildir or files")
	cmd.Flags().StringVar(&f.word, "word", "",
		"of a drop address: the word with which it begins; the mailbox's name by default")
	cmd.Flags().BoolVar(&unchecked, "unchecked", false, "add the mailbox without trying to reach it first")
	f.add(cmd)
	return cmd
}

// inShell writes a name as it is entered in a command.
func inShell(name string) string {
	if strings.ContainsAny(name, " \t'\"$&|;()<>*?`\\") {
		return fmt.Sprintf("%q", name)
	}
	return name
}

// settingsOf are a mailbox's settings as they are.
func settingsOf(m *client.Mailbox) client.MailboxSettings {
	kind := client.MailboxSettingsKind(m.Kind)
	return client.MailboxSettings{Name: m.Name, Kind: &kind, Host: m.Host, Port: &m.Port,
		Encryption: client.MailboxSettingsEncryption(m.Encryption), Username: m.Username, IntervalSeconds: &m.IntervalSeconds,
		Path: m.Path, Authority: m.Authority, Pinned: m.Pinned, Proxy: m.Proxy, Consent: m.Consent, LeaveDays: m.LeaveDays,
		Senders: m.Senders}
}

// otherRoute says whether settings lead to the server in another way than before: the kept secret was not given for it.
func otherRoute(s *client.MailboxSettings, m *client.Mailbox) bool {
	return m.Consent != nil || s.Kind != nil && string(*s.Kind) != m.Kind || !strings.EqualFold(s.Host, m.Host) ||
		deref(s.Port) != m.Port ||
		string(s.Encryption) != m.Encryption || s.Username != m.Username ||
		deref(s.Proxy) != deref(m.Proxy) || !strings.EqualFold(deref(s.Pinned), deref(m.Pinned)) ||
		deref(s.Authority) != deref(m.Authority)
}

func (c mailboxCommands) mailboxChange() *cobra.Command {
	f := &mailboxFlags{}
	newSecret := false
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change a mailbox's settings; Ink Tray keeps what it knows of its messages",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			api, err := c.connect()
			if err != nil {
				return err
			}
			m, err := findMailbox(cmd.Context(), api, args[0])
			if err != nil {
				return err
			}
			s := settingsOf(&m)
			if !account(m.Kind) {
				s.Encryption = "tls"
			}
			if cmd.Flags().Changed("kind") && f.kind != m.Kind { // another protocol has another port
				kind, usual := client.MailboxSettingsKind(f.kind), 0
				s.Kind, s.Port = &kind, &usual
				if s.Encryption == "starttls" {
					s.Encryption = "tls"
				}
			}
			if err := f.apply(c.command, &s, cmd.Flags().Changed); err != nil {
				return err
			}
			if needsSecret(&s) && (newSecret || f.secretFile != "" || otherRoute(&s, &m)) {
				secret, err := c.secret(f.secretFile, "INKTRAY_SECRET", "New secret of "+s.Username)
				if err != nil {
					return err
				}
				s.Secret = &secret
			}
			revision := fmt.Sprint(m.Revision)
			if m, err = call[client.Mailbox](api.ChangeMailbox(cmd.Context(), m.ID,
				&client.ChangeMailboxParams{IfMatch: &revision}, s)); err != nil {
				return err
			}
			return c.show(m, func() { c.printf("“%s” is changed.\n", m.Name) })
		},
	}
	cmd.Flags().StringVar(&f.kind, "kind", "", "imap or jmap: read the same mail by the other protocol")
	f.add(cmd)
	cmd.Flags().BoolVar(&newSecret, "new-secret", false, "ask for a new secret")
	return cmd
}

func (c mailboxCommands) mailboxCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check NAME", Short: "Check a mailbox step by step", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			s := settingsOf(&m)
			if m.Encryption == "" {
				s.Encryption = "tls"
			}
			steps, err := call[[]client.CheckStep](api.CheckMailbox(ctx, &client.CheckMailboxParams{ID: &m.ID}, s))
			if err != nil {
				return err
			}
			if err = c.show(steps, func() { c.showSteps(c.out, steps) }); err == nil && !allWork(steps) {
				err = &exitError{code: exitFailure}
			}
			return err
		}),
	}
}

// showSteps shows what a check of a mailbox found, and what to do.
func (c mailboxCommands) showSteps(out io.Writer, steps []client.CheckStep) {
	var rows [][]string
	advice := ""
	for _, step := range steps {
		word := "works"
		if !step.Ok {
			word, advice = "fails", deref(step.Advice)
		}
		rows = append(rows, []string{step.Step, word, step.Detail})
	}
	to := *c.command
	to.out = out
	to.table([]string{"STEP", "RESULT", "WHAT WAS FOUND"}, rows)
	if advice != "" {
		fmt.Fprintln(out, "\n"+advice)
	}
}

func allWork(steps []client.CheckStep) bool {
	return !slices.ContainsFunc(steps, func(s client.CheckStep) bool { return !s.Ok })
}

// checkFirst checks a mailbox that is to be added, and shows what is wrong. A drop address, mail from files, and an
// account that nobody has signed in to yet have nothing to be checked.
func (c mailboxCommands) checkFirst(ctx context.Context, api *client.Client, s client.MailboxSettings) error {
	if *s.Kind == "drop" || *s.Kind == "files" || s.Consent != nil {
		return nil
	}
	steps, err := call[[]client.CheckStep](api.CheckMailbox(ctx, &client.CheckMailboxParams{}, s))
	if err != nil || allWork(steps) {
		return err
	}
	failed := steps[slices.IndexFunc(steps, func(s client.CheckStep) bool { return !s.Ok })]
	if c.format != "json" { // else the error is all there is on the error output
		c.showSteps(c.errs, steps)
	}
	return &exitError{exitFailure, fmt.Sprintf("the mailbox “%s” was not added, because the check failed (%s: %s). "+
		"Correct the options, or add it without a check: --unchecked", s.Name, failed.Step, failed.Detail)}
}

func (c mailboxCommands) mailboxFind() *cobra.Command {
	return &cobra.Command{
		Use: "find ADDRESS", Short: "Look up the mail servers that an address's domain publishes (RFC 6186)",
		Args:    cobra.ExactArgs(1),
		Example: "  inktray mailboxes find gauges@brackwater.example",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			all, err := call[[]client.FoundServer](api.FindServers(ctx, &client.FindServersParams{Address: args[0]}))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, f := range all {
					rows = append(rows, []string{string(f.Kind), f.Host, fmt.Sprint(f.Port), string(f.Encryption)})
				}
				c.table([]string{"KIND", "HOST", "PORT", "ENCRYPTION"}, rows)
			})
		}),
	}
}

func (c mailboxCommands) mailboxAddress() *cobra.Command {
	word := ""
	cmd := &cobra.Command{
		Use: "address NAME [renew|close]", Short: "Show a drop address, give it a new secret part, or close it",
		Args: cobra.RangeArgs(1, 2),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			if len(args) == 2 || word != "" {
				change := client.AddressChange{What: "renew"}
				if len(args) == 2 {
					change.What = client.AddressChangeWhat(args[1])
				}
				if word != "" {
					change.Word = &word
				}
				if m, err = call[client.Mailbox](api.ChangeAddress(ctx, m.ID, change)); err != nil {
					return err
				}
			} else if m.Kind != "drop" {
				return &exitError{exitFailure, fmt.Sprintf("the mailbox “%s” is not a drop address", m.Name)}
			}
			return c.show(m, func() {
				switch {
				case deref(m.Address) == "":
					c.printf("“%s” is closed: it takes no mail. What came stays.\n", m.Name)
				case len(args) == 2 || word != "":
					c.printf("“%s” receives mail at %s now. The former address no longer receives mail.\n", m.Name,
						*m.Address)
				default:
					fmt.Fprintln(c.out, *m.Address)
				}
			})
		}),
	}
	cmd.Flags().StringVar(&word, "word", "", "another word to begin with")
	return cmd
}

func (c mailboxCommands) mailboxSignIn() *cobra.Command {
	return &cobra.Command{
		Use: "sign-in NAME", Short: "Sign in to a mailbox that is read by consent (OAuth 2.0)", Args: cobra.ExactArgs(1),
		Long: "Shows an address and a code. Open the address on any device, enter the code and give consent there; the " +
			"command waits for it. In the console the same is done in the browser.",
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			m, err := findMailbox(ctx, api, args[0])
			if err != nil {
				return err
			}
			a, err := call[client.Asked](api.AskConsent(ctx, m.ID, client.AskConsentJSONRequestBody{}))
			if err != nil {
				return err
			}
			c.tellf("Open this address and give consent:\n\n    %s\n\nThe code is %s. It is good until %s.\n",
				a.Page, a.Code, when(a.Until))
			tick := time.NewTicker(time.Second)
			defer tick.Stop()
			for {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-tick.C:
				}
				if a, err = call[client.Asked](api.GetAsked(ctx, m.ID)); err != nil {
					return err
				}
				switch {
				case a.Given:
					return c.show(a, func() { c.printf("Signed in. “%s” is being watched.\n", m.Name) })
				case a.Problem != "":
					return &exitError{exitFailure, a.Problem}
				}
			}
		}),
	}
}
