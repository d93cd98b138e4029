package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
)

// secretFrom reads a secret from a file, "" for none.
func (c peopleCommands) secretFrom(file string) (*string, error) {
	if file == "" {
		return nil, nil
	}
	data, err := c.readFile(file)
	if err != nil {
		return nil, err
	}
	s := strings.TrimRight(string(data), "\r\n")
	return &s, nil
}

// wentWell shows how a trial went; one that did not ends with an error.
func (c peopleCommands) wentWell(t client.Trial, err error) error {
	if err != nil {
		return err
	}
	if !t.Ok {
		advice := ""
		if t.Advice != nil {
			advice = " " + *t.Advice
		}
		return fmt.Errorf("%s.%s", strings.TrimSuffix(t.Text, "."), advice)
	}
	return c.show(t, func() { fmt.Fprintln(c.out, t.Text) })
}

// showOutgoing shows how mail is sent.
func (c peopleCommands) showOutgoing(o client.Outgoing) error {
	return c.show(o, func() {
		if o.Mailbox != "" {
			c.table([]string{"MAILBOX", o.Mailbox},
				c.labelled([][]string{{"from", strings.TrimSpace(o.Name + " <" + o.From + ">")}, {"console", o.Console}}))
			return
		}
		if o.Host == "" {
			c.println("Ink Tray cannot send mail yet. Set it up: inktray outgoing set --host smtp.brackwater.example --from " +
				"office@brackwater.example")
			return
		}
		password := c.texts.Say("not kept")
		if o.HasPassword {
			password = c.texts.Say("kept, sealed")
		}
		c.table([]string{"HOST", o.Host},
			c.labelled([][]string{{"port", fmt.Sprint(o.Port)}, {"encryption", c.texts.Word("state", o.Encryption)},
				{"user name", o.Username}, {"password", password},
				{"from", strings.TrimSpace(o.Name + " <" + o.From + ">")}, {"console", o.Console}}))
	})
}

func (c peopleCommands) outgoing() *cobra.Command {
	root := &cobra.Command{Use: "outgoing", Short: "How Ink Tray sends mail: replies, notifications, alarms"}
	root.AddCommand(&cobra.Command{Use: "show", Short: "Show how mail is sent", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			o, err := call[client.Outgoing](api.GetOutgoing(ctx))
			if err != nil {
				return err
			}
			return c.showOutgoing(o)
		})})
	var port int
	var mailbox, host, encryption, username, passwordFile, from, name, console string
	set := &cobra.Command{Use: "set", Short: "Set how mail is sent; options that you leave out stay as they " +
		"are", Args: cobra.NoArgs}
	set.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		o, err := call[client.Outgoing](api.GetOutgoing(ctx))
		if err != nil {
			return err
		}
		var s client.OutgoingSettings
		way := client.OutgoingSettingsEncryption(encryption)
		for flag, give := range map[string]func(){"host": func() { s.Host = &host },
			"mailbox": func() { s.Mailbox = &mailbox }, "port": func() { s.Port = &port },
			"encryption": func() { s.Encryption = &way }, "user": func() { s.Username = &username },
			"from": func() { s.From = &from }, "name": func() { s.Name = &name }, "console": func() { s.Console = &console }} {
			if set.Flags().Changed(flag) {
				give()
			}
		}
		if s.Encryption != nil && s.Port == nil && o.Encryption != encryption { // the usual one of the other way
			s.Port = &port
		}
		if s.Password, err = c.secretFrom(passwordFile); err != nil {
			return err
		}
		if s == (client.OutgoingSettings{}) {
			return usageError{errors.New("say what to set, such as --host smtp.brackwater.example --from " +
				"office@brackwater.example")}
		}
		if o, err = call[client.Outgoing](api.SetOutgoing(ctx, &client.SetOutgoingParams{IfMatch: ifMatch(o.Revision)},
			s)); err != nil {
			return err
		}
		return c.showOutgoing(o)
	})
	set.Flags().StringVar(&host, "host", "", "the server that takes mail; empty sends none")
	set.Flags().StringVar(&mailbox, "mailbox", "",
		"a mailbox read by JMAP whose server sends the mail, instead of --host; empty for none")
	set.Flags().IntVar(&port, "port", 0, "its port; 0 for 465 with tls, else 587")
	set.Flags().StringVar(&encryption, "encryption", "starttls", "tls, starttls or none")
	set.Flags().StringVar(&username, "user", "", "the name to sign in with; empty for none")
	set.Flags().StringVar(&passwordFile, "password-file", "",
		"file with the password; - reads it from standard input; without it the kept one stays")
	set.Flags().StringVar(&from, "from", "", "the sender's address")
	set.Flags().StringVar(&name, "name", "", "the sender's name")
	set.Flags().StringVar(&console, "console", "", "the address at which colleagues open Ink Tray, for links")
	root.AddCommand(set,
		&cobra.Command{Use: "check", Short: "Sign in at the server that takes mail", Args: cobra.NoArgs,
			RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
				return c.wentWell(call[client.Trial](api.CheckOutgoing(ctx)))
			})})
	return root
}

func findAddressee(ctx context.Context, api *client.Client, name string) (client.Addressee, error) {
	all, err := call[[]client.Addressee](api.ListAddressees(ctx))
	return named(all, err, "notification", name, func(a *client.Addressee) (string, string) { return a.Name, a.ID })
}

// addresseeFlags are what a notification is set by.
type addresseeFlags struct {
	mails                          []string
	url, secretFile, tray, dailyAt string
	inside                         bool
}

func (f *addresseeFlags) add(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringSliceVar(&f.mails, "mail", nil, "a mail address; can be given several times")
	cmd.Flags().StringVar(&f.url, "call", "", "an address to call (CloudEvents over HTTP) instead of mail")
	cmd.Flags().StringVar(&f.secretFile, "secret-file", "",
		"file with the secret that signs the calls; - reads it from standard input")
	cmd.Flags().BoolVar(&f.inside, "inside", false, "calls may go to this machine's own network")
	cmd.Flags().StringVar(&f.tray, "tray", "never", "when to notify of what waits in the tray: never, \"at once\" or "+
		"daily")
	cmd.Flags().StringVar(&f.dailyAt, "daily-at", "08:00", "when the daily digest goes")
	return cmd
}

func (f *addresseeFlags) settings(c peopleCommands, name string) (client.AddresseeSettings, error) {
	kind := client.AddresseeSettingsKind("mail")
	if f.url != "" {
		kind = "call"
	}
	told := client.AddresseeSettingsTray(f.tray)
	s := client.AddresseeSettings{Name: name, Kind: kind, Addresses: &f.mails, URL: &f.url, Inside: &f.inside, Tray: &told,
		DailyAt: &f.dailyAt}
	if f.mails == nil {
		s.Addresses = nil
	}
	var err error
	s.Secret, err = c.secretFrom(f.secretFile)
	return s, err
}

func (c peopleCommands) addressees() *cobra.Command {
	root := &cobra.Command{Use: "notifications", Aliases: []string{"addressees"}, Short: "Notifications: who is told"}
	var f addresseeFlags
	change := &cobra.Command{Use: "change NAME",
		Short: "Change a notification; options that you leave out stay as they are", Args: cobra.ExactArgs(1)}
	change.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		old, err := findAddressee(ctx, api, args[0])
		if err != nil {
			return err
		}
		s, err := f.settings(c, old.Name)
		if err != nil {
			return err
		}
		given := change.Flags().Changed
		if !given("mail") && !given("call") {
			s.Kind, s.Addresses, s.URL = client.AddresseeSettingsKind(old.Kind), &old.Addresses, &old.URL
		}
		if !given("inside") {
			s.Inside = &old.Inside
		}
		if !given("tray") {
			told := client.AddresseeSettingsTray(old.Tray)
			s.Tray = &told
		}
		if !given("daily-at") {
			s.DailyAt = &old.DailyAt
		}
		a, err := call[client.Addressee](api.ChangeAddressee(ctx, old.ID,
			&client.ChangeAddresseeParams{IfMatch: ifMatch(old.Revision)}, s))
		if err != nil {
			return err
		}
		return c.show(a, func() {
			c.printf("“%s” is changed. Try it: inktray notifications trial %q\n", a.Name, a.Name)
		})
	})
	add := &cobra.Command{Use: "add NAME", Short: "Add a notification", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			s, err := f.settings(c, args[0])
			if err != nil {
				return err
			}
			a, err := call[client.Addressee](api.AddAddressee(ctx, s))
			if err != nil {
				return err
			}
			return c.show(a, func() {
				c.printf("“%s” is added. Try it: inktray notifications trial %q\n", a.Name, a.Name)
			})
		})}
	root.AddCommand(c.addresseesList(), showing(c.command, "Show a notification with its settings", findAddressee),
		f.add(add), f.add(change), c.addresseesTrial(), c.addresseesRemove())
	return root
}

func (c peopleCommands) addresseesList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the notifications", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Addressee](api.ListAddressees(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, a := range all {
					tray := string(a.Tray)
					if a.Tray == "daily" {
						tray += " at " + a.DailyAt
					}
					rows = append(rows, []string{a.Name, string(a.Kind), strings.Join(append(a.Addresses, a.URL), " "), tray})
				}
				c.table([]string{"NAME", "KIND", "WHERE", "TOLD OF THE TRAY"}, rows)
			})
		})}
}

func (c peopleCommands) addresseesTrial() *cobra.Command {
	return &cobra.Command{Use: "trial NAME", Aliases: []string{"try"},
		Short: "Send a test message now", Args: cobra.ExactArgs(1),
		RunE: c.do(func(ctx context.Context, api *client.Client, args []string) error {
			a, err := findAddressee(ctx, api, args[0])
			if err != nil {
				return err
			}
			return c.wentWell(call[client.Trial](api.TryAddressee(ctx, a.ID)))
		})}
}

func (c peopleCommands) addresseesRemove() *cobra.Command {
	return c.removing("Remove a notification",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			a, err := findAddressee(ctx, api, name)
			return fmt.Sprintf("“%s” gets no more notifications.", a.Name), func() error {
				if _, err := call[nothing](api.RemoveAddressee(ctx, a.ID)); err != nil {
					return err
				}
				c.printf("“%s” gets no more notifications.\n", a.Name)
				return nil
			}, err
		})
}

// alarmFlags are what an alarm is set by.
type alarmFlags struct {
	rule, by, mailbox, cabinet string
	atLeast, within, after     int
	weekdays, who              []string
}

func (c peopleCommands) alarms() *cobra.Command {
	root := &cobra.Command{Use: "alarms", Short: "Alarms: when a rule is silent, or a mailbox or cabinet is out of reach"}

	root.AddCommand(c.alarmsList(), showing(c.command, "Show an alarm with its settings", findAlarm))
	var f alarmFlags
	const again = "If there is an alarm of that name, the command changes it: options that you leave out stay as they " +
		"are."
	silence := &cobra.Command{Use: "silence NAME", Short: "Warn when a rule should have filed and did not",
		Long: again, Args: cobra.ExactArgs(1),
		Example: "  inktray alarms silence \"No readings\" --rule \"Tide gauge readings\" --at-least 3 --by 10:00 --on " +
			"monday,friday --tell \"Harbour office\""}
	silence.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		return c.saveAlarm(ctx, api, silence, &f, args[0], "silence")
	})
	silence.Flags().StringVar(&f.rule, "rule", "", "the rule")
	silence.Flags().IntVar(&f.atLeast, "at-least", 1, "how many it should file")
	silence.Flags().IntVar(&f.within, "within-hours", 24, "in how many hours before the time")
	silence.Flags().StringVar(&f.by, "by", "", "the time of the day, 10:00")
	silence.Flags().StringSliceVar(&f.weekdays, "on", nil, "the weekdays; every day where none is named")
	reach := &cobra.Command{Use: "reach NAME",
		Short: "Warn when a mailbox or a cabinet is out of reach for too long", Long: again,
		Args: cobra.ExactArgs(1)}
	reach.RunE = c.do(func(ctx context.Context, api *client.Client, args []string) error {
		return c.saveAlarm(ctx, api, reach, &f, args[0], "out of reach")
	})
	reach.Flags().StringVar(&f.mailbox, "mailbox", "", "this mailbox; any where neither is named")
	reach.Flags().StringVar(&f.cabinet, "cabinet", "", "this cabinet")
	reach.Flags().IntVar(&f.after, "after-minutes", 60, "for longer than so many minutes")
	for _, cmd := range []*cobra.Command{silence, reach} {
		cmd.Flags().StringSliceVar(&f.who, "tell", nil, "who is notified; can be given several times")
	}
	root.AddCommand(silence, reach,
		c.alarmsRemove())
	return root
}

// saveAlarm sets an alarm, or changes the one of that name.
func (c peopleCommands) saveAlarm(ctx context.Context, api *client.Client, cmd *cobra.Command, f *alarmFlags, name,
	kind string) error {
	all, err := call[[]client.Alarm](api.ListAlarms(ctx))
	if err != nil {
		return err
	}
	at := slices.IndexFunc(all, func(a client.Alarm) bool { return strings.EqualFold(a.Name, name) })
	days := []client.AlarmSettingsWeekdays{}
	for _, d := range f.weekdays {
		days = append(days, client.AlarmSettingsWeekdays(strings.ToLower(d)))
	}
	s := client.AlarmSettings{Name: name, Kind: client.AlarmSettingsKind(kind), Who: f.who, Weekdays: &days,
		Rule: &f.rule, ByTime: &f.by, AtLeast: &f.atLeast, WithinHours: &f.within, Mailbox: &f.mailbox, Cabinet: &f.cabinet,
		AfterMinutes: &f.after}
	if at >= 0 { // what is not given stays
		old := &all[at]
		if string(old.Kind) != kind {
			return &exitError{exitInvalid,
				fmt.Sprintf("the alarm “%s” is of another kind; remove it first, or take another name", old.Name)}
		}
		was := []client.AlarmSettingsWeekdays{}
		for _, d := range old.Weekdays {
			was = append(was, client.AlarmSettingsWeekdays(d))
		}
		for flag, keep := range map[string]func(){"rule": func() { s.Rule = &old.Rule },
			"at-least": func() { s.AtLeast = &old.AtLeast }, "within-hours": func() { s.WithinHours = &old.WithinHours },
			"by": func() { s.ByTime = &old.ByTime },
			"on": func() { s.Weekdays = &was }, "after-minutes": func() { s.AfterMinutes = &old.AfterMinutes },
			"tell": func() { s.Who = old.Who }} {
			if !cmd.Flags().Changed(flag) {
				keep()
			}
		}
		if !cmd.Flags().Changed("mailbox") && !cmd.Flags().Changed("cabinet") {
			s.Mailbox, s.Cabinet = &old.Mailbox, &old.Cabinet
		}
	}
	if kind == "silence" {
		s.Mailbox, s.Cabinet, s.AfterMinutes = nil, nil, nil
	} else {
		s.Rule, s.ByTime, s.AtLeast, s.WithinHours, s.Weekdays = nil, nil, nil, nil, nil
	}
	var a client.Alarm
	if at >= 0 {
		a, err = call[client.Alarm](api.ChangeAlarm(ctx, all[at].ID,
			&client.ChangeAlarmParams{IfMatch: ifMatch(all[at].Revision)}, s))
	} else {
		a, err = call[client.Alarm](api.AddAlarm(ctx, s))
	}
	if err != nil {
		return err
	}
	return c.show(a, func() { fmt.Fprintln(c.out, a.Sentence) })
}

func (c peopleCommands) alarmsList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the alarms", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			all, err := call[[]client.Alarm](api.ListAlarms(ctx))
			if err != nil {
				return err
			}
			return c.show(all, func() {
				var rows [][]string
				for _, a := range all {
					rang := "never"
					if a.RangAt != nil {
						rang = when(*a.RangAt)
					}
					rows = append(rows, []string{a.Name, a.Sentence, rang})
				}
				c.table([]string{"NAME", "", "LAST RANG"}, rows)
			})
		})}
}

func (c peopleCommands) alarmsRemove() *cobra.Command {
	return c.removing("Remove an alarm",
		func(ctx context.Context, api *client.Client, name string) (string, func() error, error) {
			a, err := findAlarm(ctx, api, name)
			return fmt.Sprintf("The alarm “%s” is removed: nobody is notified of this any longer.", a.Name), func() error {
				if _, err := call[nothing](api.RemoveAlarm(ctx, a.ID)); err != nil {
					return err
				}
				c.printf("The alarm “%s” is removed.\n", a.Name)
				return nil
			}, err
		})
}

func (c peopleCommands) limits() *cobra.Command {
	root := &cobra.Command{Use: "limits",
		Short: "How long things are kept, how much may be filed in an hour, and how many connections there may be"}
	shown := func(l client.Limits) error {
		return c.show(l, func() {
			rows := [][]string{}
			for _, row := range limitRows(&l) {
				rows = append(rows, []string{row.flag, fmt.Sprint(*row.value), row.what})
			}
			c.table([]string{"LIMIT", "", ""}, rows)
		})
	}
	root.AddCommand(&cobra.Command{Use: "show", Short: "Show the limits", Args: cobra.NoArgs,
		RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			l, err := call[client.Limits](api.GetLimits(ctx))
			if err != nil {
				return err
			}
			return shown(l)
		})})
	wanted := client.Limits{}
	set := &cobra.Command{Use: "set", Short: "Set limits; options that you leave out stay as they " +
		"are", Args: cobra.NoArgs}
	set.RunE = c.do(func(ctx context.Context, api *client.Client, _ []string) error {
		l, err := call[client.Limits](api.GetLimits(ctx))
		if err != nil {
			return err
		}
		asked := limitRows(&wanted)
		for i, row := range limitRows(&l) {
			if set.Flags().Changed(row.flag) {
				*row.value = *asked[i].value
			}
		}
		if l, err = call[client.Limits](api.SetLimits(ctx, &client.SetLimitsParams{IfMatch: ifMatch(deref(l.Revision))},
			l)); err != nil {
			return err
		}
		return shown(l)
	})
	for _, row := range limitRows(&wanted) {
		set.Flags().IntVar(row.value, row.flag, 0, row.what)
	}
	root.AddCommand(set)
	return root
}

// limitRow is one limit as an option.
type limitRow struct {
	flag  string
	value *int
	what  string
}

func limitRows(l *client.Limits) []limitRow {
	for _, optional := range []**int{&l.AuditDays, &l.AccountConnections, &l.HostConnections} {
		if *optional == nil {
			*optional = new(int)
		}
	}
	return []limitRow{
		{"history-days", &l.HistoryDays,
			"days for which passes are kept, and facts of messages of which nothing was filed; 0 for ever"},
		{"register-days", &l.RegisterDays,
			"days after which senders, subjects and notes are erased from the register; 0 never"},
		{"kept-days", &l.KeptDays, "days for which files that were replaced or taken back are kept; 0 for ever"},
		{"audit-days", l.AuditDays, "days for which the audit trail is kept, 30 at least; 0 for ever"},
		{"spool-mb", &l.SpoolMb, "megabytes of contents that may wait here for a cabinet that is down"},
		{"rule-files", &l.RuleFiles, "files that a rule may file in an hour; 0 for no cap"},
		{"rule-mb", &l.RuleMb, "megabytes that a rule may file in an hour"},
		{"rule-folders", &l.RuleFolders, "new folders that a rule may make in an hour"},
		{"sender-files", &l.SenderFiles, "files that one sender may have filed in an hour"},
		{"sender-mb", &l.SenderMb, "megabytes that one sender may have filed in an hour"},
		{"sender-folders", &l.SenderFolders, "new folders that one sender may have made in an hour"},
		{"account-connections", l.AccountConnections,
			"connections that one account may have to its mail server at the same time, 2 at least; 0 for any number"},
		{"host-connections", l.HostConnections,
			"connections to one mail server at the same time, 2 at least; 0 for any number"},
	}
}

// metrics prints the counts for a monitoring program.
func (c peopleCommands) metrics() *cobra.Command {
	return &cobra.Command{Use: "metrics", Short: "Print counts for a monitoring program (Prometheus text format)",
		Args: cobra.NoArgs, RunE: c.do(func(ctx context.Context, api *client.Client, _ []string) error {
			response, err := api.GetMetrics(ctx)
			if err != nil || response.StatusCode != http.StatusOK {
				_, err = call[nothing](response, err)
				return err
			}
			defer response.Body.Close()
			_, err = io.Copy(c.out, response.Body)
			return err
		})}
}
