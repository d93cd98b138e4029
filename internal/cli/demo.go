package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/spf13/cobra"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/api"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/store"
)

const (
	demoMark   = ".inktray-demo"
	demoPerson = "Ines Halloway"
)

// demoFolder empties and makes the demo's own folder. A folder that is not the
// demo's is not touched.
func demoFolder(folder string) error {
	entries, err := os.ReadDir(folder)
	if err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(folder, demoMark)); err != nil {
			return &exitError{exitFailure,
				fmt.Sprintf("the folder %s is not empty and was not made by the demo; choose another with --folder", folder)}
		}
		if err := os.RemoveAll(folder); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, demoMark),
		[]byte("This folder belongs to the demo of Ink Tray, which empties it at every start.\n"), 0o644)
}

// demoOptions say where the demo keeps its files and where it listens.
type demoOptions struct {
	folder, console, mail, smtp, logs string
	every                             time.Duration // between messages
}

func (c serviceCommands) demo() *cobra.Command {
	var o demoOptions
	cmd := &cobra.Command{
		Use: "demo", Short: "Try everything with the Brackwater harbour office, an invented one", Args: cobra.NoArgs,
		Long: "Starts a mail server in the process with three mailboxes and some weeks of mail, an account that is read by " +
			"consent, a drop address, the service, and seven rules. The old mail is filed at once, and a new message arrives " +
			"every few seconds. Nothing is written outside the demo's own folder, which is emptied at every start.",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.runDemo(cmd.Context(), &o) },
	}
	cmd.Flags().StringVar(&o.folder, "folder", filepath.Join(os.TempDir(), "inktray-demo"), "the demo's own folder")
	cmd.Flags().StringVar(&o.console, "listen", "127.0.0.1:8025", "address of the console")
	cmd.Flags().StringVar(&o.mail, "mail-listen", "127.0.0.1:0",
		"address of the mail server; port 0 takes a free one")
	cmd.Flags().StringVar(&o.smtp, "smtp", "127.0.0.1:0",
		"address at which the drop addresses receive mail; port 0 takes a free one")
	cmd.Flags().StringVar(&o.logs, "log-file", "", "file for the service's log")
	cmd.Flags().DurationVar(&o.every, "every", 5*time.Second, "how often a message arrives")
	return cmd
}

// demoLog is where the demo's service logs to: nowhere, unless a file is named.
func demoLog(file string) (log *slog.Logger, closed func() error, err error) {
	if file == "" {
		return slog.New(slog.NewTextHandler(io.Discard, nil)), func() error { return nil }, nil
	}
	f, err := os.Create(file)
	if err != nil {
		return nil, nil, err
	}
	return slog.New(slog.NewTextHandler(f, nil)), f.Close, nil
}

// runDemo starts the office's servers and the service, and runs until ctx ends.
func (c serviceCommands) runDemo(ctx context.Context, o *demoOptions) error {
	folder, err := filepath.Abs(o.folder)
	if err != nil {
		return err
	}
	if err := demoFolder(folder); err != nil {
		return err
	}
	authority, err := demo.StartAuthority("127.0.0.1:0")
	if err != nil {
		return err
	}
	defer authority.Close()
	mail, err := demo.StartMailServer(o.mail, authority.User)
	if errors.Is(err, syscall.EADDRINUSE) {
		return &exitError{exitFailure,
			fmt.Sprintf("the address %s is taken by another program; choose another with --mail-listen", o.mail)}
	}
	if err != nil {
		return err
	}
	defer mail.Close()
	desk, err := demo.StartDesk(filepath.Join(folder, "sent"))
	if err != nil {
		return err
	}
	defer desk.Close()
	places, err := demo.StartPlaces(filepath.Join(folder, "places"))
	if err != nil {
		return err
	}
	defer places.Close()
	log, closeLog, err := demoLog(o.logs)
	if err != nil {
		return err
	}
	defer closeLog()
	s, err := start(serviceOptions{data: filepath.Join(folder, "records"), listen: o.console, plain: true,
		zone: "Local", language: "en", log: log,
		receive: receiveOptions{domain: demo.DropDomain, smtp: o.smtp, megabytes: 64}})
	if err != nil {
		return err
	}
	c.service = s.address()
	if err := c.furnish(ctx, s, mail, desk, authority, demo.OldMail(time.Now()),
		filepath.Join(folder, "files")); err != nil {
		return errors.Join(err, s.stop())
	}
	if err := c.furnishCabinets(ctx, places); err != nil {
		return errors.Join(err, s.stop())
	}
	drop, err := s.store.Mailboxes.Named(ctx, store.System, demo.DropName)
	if err != nil {
		return errors.Join(err, s.stop())
	}
	c.printf("The Brackwater harbour office is open.\n\n  Console   %s\n  Sign in   %s, password %s\n  "+
		"Files     %s\n  Sent      %s\n  Receives  %s at %s\n\nA message arrives every %s. Stop with Ctrl+C.\n",
		s.address(), demoPerson, demo.Password, filepath.Join(folder, "files"), filepath.Join(folder, "sent"),
		s.engine.Mailboxes.DropAddress(&drop), s.api.SMTP, o.every)
	during, cancel := context.WithCancel(ctx)
	arriving := make(chan struct{})
	go func() {
		defer close(arriving)
		arrive(during, mail, o.every)
	}()
	err = s.run(during)
	cancel()
	<-arriving
	return err
}

// arrive lets a message arrive every so often.
func arrive(ctx context.Context, mail *demo.MailServer, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return
		case now := <-tick.C:
			l := demo.Next(n, now)
			if err := mail.Deliver(l.Mailbox, l.Raw, l.Received); err != nil {
				return
			}
		}
	}
}

// furnish fills the mailboxes and sets everything up over the service's own
// interface, as a person would.
func (c serviceCommands) furnish(ctx context.Context, s *service, mail *demo.MailServer, desk *demo.Desk,
	authority *demo.Authority, letters []demo.Letter, files string) error {
	for i, l := range letters {
		var flags []imap.Flag
		if i%3 > 0 {
			flags = append(flags, imap.FlagSeen)
		}
		if err := mail.Deliver(l.Mailbox, l.Raw, l.Received, flags...); err != nil {
			return err
		}
	}
	person := store.Person{ID: store.NewID(), Name: demoPerson, Password: api.HashPassword(demo.Password),
		Role: store.Administrator, MadeAt: time.Now().UTC()}
	if err := s.store.People.Add(ctx, person, "demo"); err != nil {
		return err
	}
	token, err := c.tokenFor(ctx, demoPerson, demo.Password, "", "")
	if err != nil {
		return err
	}
	service, err := c.connectWith(token)
	if err != nil {
		return err
	}
	if _, err := call[client.Cabinet](service.AddCabinet(ctx,
		client.CabinetSettings{Name: "harbour files", Folder: files})); err != nil {
		return err
	}
	port, interval, secret := mail.Port(), 5, demo.Password
	for _, name := range demo.Mailboxes {
		_, err := call[client.Mailbox](service.AddMailbox(ctx,
			client.MailboxSettings{Name: name, Host: "127.0.0.1", Port: &port, Encryption: "none", Username: name +
				"@brackwater.example", Secret: &secret, IntervalSeconds: &interval}))
		if err != nil {
			return err
		}
	}
	if err := furnishMailboxes(ctx, service, mail, authority); err != nil {
		return err
	}
	if err := watched(ctx, service); err != nil {
		return err
	}
	for _, with := range []func(context.Context, *client.Client) error{furnishTrust, furnishTopic, furnishBook} {
		if err := with(ctx, service); err != nil {
			return err
		}
	}
	if err := furnishPeople(ctx, service, s.address(), desk); err != nil {
		return err
	}
	quiet := &command{in: strings.NewReader(demo.Rules), out: io.Discard, errs: io.Discard, service: c.service,
		format: "table"}
	rules, err := quiet.readRules("-")
	if err != nil {
		return err
	}
	var entries []ruleEntry
	for _, r := range rules {
		on := true
		entries = append(entries, ruleEntry{On: &on, Rule: r})
	}
	changes, err := quiet.compareRules(ctx, service, entries, nil)
	if err != nil {
		return err
	}
	if err := (applyCommands{quiet}).carryOut(ctx, changes, false, true); err != nil {
		return err
	}
	if err := furnishAlarms(ctx, service); err != nil {
		return err
	}
	for _, r := range rules {
		if _, err := call[client.Pass](service.FileOldMail(ctx, r.ID, client.OldMailRequest{})); err != nil {
			return err
		}
	}
	return nil
}

// watched waits until every mailbox is watched, so that rules begin at a known place.
func watched(ctx context.Context, service *client.Client) error {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for deadline := time.Now().Add(20 * time.Second); ; {
		all, err := call[[]client.Mailbox](service.ListMailboxes(ctx))
		if err != nil {
			return err
		}
		ready := true
		for _, m := range all {
			ready = ready && string(m.State) == mailboxes.Live
		}
		if ready {
			return nil
		}
		if time.Now().After(deadline) {
			return errors.New("the demo's mailboxes cannot be watched; see --log-file")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// furnishPeople says how the demo sends mail, and who is told.
func furnishPeople(ctx context.Context, service *client.Client, console string, desk *demo.Desk) error {
	port, name := desk.MailPort(), "Brackwater harbour office"
	host, from, encryption := "127.0.0.1", "office@brackwater.example", client.OutgoingSettingsEncryption("none")
	if _, err := call[client.Outgoing](service.SetOutgoing(ctx, &client.SetOutgoingParams{},
		client.OutgoingSettings{Host: &host, Port: &port, Encryption: &encryption, From: &from, Name: &name,
			Console: &console})); err != nil {
		return err
	}
	url, secret, yes := desk.URL(), "north-mole-light", true
	now, daily, at := client.AddresseeSettingsTray("at once"), client.AddresseeSettingsTray("daily"), "08:00"
	for _, a := range []client.AddresseeSettings{
		{Name: "Harbour master", Kind: "mail", Addresses: &[]string{"harbour.master@brackwater.example"}, Tray: &now},
		{Name: "Duty desk", Kind: "mail", Addresses: &[]string{"duty@brackwater.example"}, Tray: &daily, DailyAt: &at},
		{Name: "Berth planner", Kind: "call", URL: &url, Secret: &secret, Inside: &yes},
	} {
		if _, err := call[client.Addressee](service.AddAddressee(ctx, a)); err != nil {
			return err
		}
	}
	return nil
}

// furnishMailboxes adds a drop address, a mailbox for files, and one that is read by
// consent, where there is an authority.
func furnishMailboxes(ctx context.Context, service *client.Client, mail *demo.MailServer,
	authority *demo.Authority) error {
	drop, files, imap, word, port, interval := client.MailboxSettingsKind("drop"), client.MailboxSettingsKind("files"),
		client.MailboxSettingsKind("imap"), "post", mail.Port(), 5
	for _, m := range []client.MailboxSettings{{Name: demo.DropName, Kind: &drop, Word: &word},
		{Name: demo.FilesName, Kind: &files}} {
		if _, err := call[client.Mailbox](service.AddMailbox(ctx, m)); err != nil {
			return err
		}
	}
	if authority == nil {
		return nil
	}
	issuer := authority.Issuer()
	user := demo.ByConsent + "@brackwater.example"
	m, err := call[client.Mailbox](service.AddMailbox(ctx,
		client.MailboxSettings{Name: demo.ByConsent, Kind: &imap, Host: "127.0.0.1", Port: &port, Encryption: "none",
			Username: user, IntervalSeconds: &interval, Consent: &client.Consent{ClientID: demo.ClientID, Issuer: &issuer}}))
	if err != nil {
		return err
	}
	asked, err := call[client.Asked](service.AskConsent(ctx, m.ID, client.AskConsentJSONRequestBody{}))
	authority.Allow(asked.Code, user)
	return err
}

// furnishCabinets adds a cabinet of each kind on servers.
func (c serviceCommands) furnishCabinets(ctx context.Context, places *demo.Places) error {
	token, err := c.tokenFor(ctx, demoPerson, demo.Password, "", "")
	if err != nil {
		return err
	}
	service, err := c.connectWith(token)
	if err != nil {
		return err
	}
	name, secret := demo.PlacesName, demo.Password
	webdav, sftp, store := client.Webdav, client.Sftp, client.S3
	for _, set := range []client.CabinetSettings{
		{Name: "office share", Kind: &webdav, Folder: places.WebDAV, Username: &name, Secret: &secret},
		{Name: "surveys", Kind: &sftp, Folder: places.SFTP, Username: &name, Secret: &secret, HostKey: &places.HostKey},
		{Name: "archive", Kind: &store, Folder: places.Objects, Username: &name, Secret: &secret},
	} {
		if _, err := call[client.Cabinet](service.AddCabinet(ctx, set)); err != nil {
			return err
		}
	}
	return nil
}

// furnishAlarms sets the demo's alarms.
func furnishAlarms(ctx context.Context, service *client.Client) error {
	ruleName, least, hours, by, minutes := "Tide gauge readings", 1, 24, "10:00", 30
	days := []client.AlarmSettingsWeekdays{"monday", "tuesday", "wednesday", "thursday", "friday"}
	for _, a := range []client.AlarmSettings{
		{Name: "No tide readings", Kind: "silence", Rule: &ruleName, AtLeast: &least, WithinHours: &hours, ByTime: &by,
			Weekdays: &days, Who: []string{"Harbour master"}},
		{Name: "Out of reach", Kind: "out of reach", AfterMinutes: &minutes,
			Who: []string{"Harbour master", "Berth planner"}},
	} {
		if _, err := call[client.Alarm](service.AddAlarm(ctx, a)); err != nil {
			return err
		}
	}
	return nil
}

// furnishTrust lets the demo believe its mail server.
func furnishTrust(ctx context.Context, service *client.Client) error {
	_, err := call[client.Trust](service.SetTrust(ctx, &client.SetTrustParams{},
		client.TrustSettings{Servers: []string{demo.MailHost}, Replies: true}))
	return err
}

// furnishTopic teaches the demo's topic by some of its old mail.
func furnishTopic(ctx context.Context, service *client.Client) error {
	t, err := call[client.Topic](service.AddTopic(ctx, client.TopicSettings{Name: demo.Topic}))
	if err != nil {
		return err
	}
	mailboxes, err := call[[]client.Mailbox](service.ListMailboxes(ctx))
	if err != nil {
		return err
	}
	most := 60
	var about, others []int64
	for _, m := range mailboxes {
		if m.Name != "berths" && m.Name != "safety" {
			continue
		}
		seen, err := call[client.LookedInto](service.LookInto(ctx, m.ID, &client.LookIntoParams{Most: &most}))
		if err != nil {
			return err
		}
		for _, x := range seen.Messages {
			switch {
			case strings.Contains(x.Subject, "Berth"):
				about = append(about, x.ID)
			case !strings.Contains(x.Subject, "berth"):
				others = append(others, x.ID)
			}
		}
	}
	for i, all := range [][]int64{about, others} {
		var numbers []int64 // eight of them, spread
		for k := range min(8, len(all)) {
			numbers = append(numbers, all[k*len(all)/min(8, len(all))])
		}
		if len(numbers) == 0 {
			continue
		}
		if _, err := call[client.Topic](service.MarkMessages(ctx, t.ID,
			client.MarkRequest{Messages: numbers, About: i == 0})); err != nil {
			return err
		}
	}
	return nil
}

// furnishBook enters the demo's correspondents and its table.
func furnishBook(ctx context.Context, service *client.Client) error {
	for _, c := range demo.Book {
		if _, err := call[client.Correspondent](service.AddCorrespondent(ctx,
			client.CorrespondentSettings{Name: c.Name, Domains: &[]string{c.Domain}, Groups: &[]string{c.Group},
				Addresses: &[]string{}})); err != nil {
			return err
		}
	}
	table := client.LookupTableSettings{Name: "stations"}
	for _, row := range demo.Stations {
		table.Rows = append(table.Rows, client.LookupRow{Key: row[0], Value: row[1]})
	}
	_, err := call[client.LookupTable](service.AddTable(ctx, table))
	return err
}
