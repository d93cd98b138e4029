package checkup

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"inktray.example/inktray/internal/backups"
	"inktray.example/inktray/internal/cabinets"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/headroom"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/reading"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/replica"
	"inktray.example/inktray/internal/scan"
	"inktray.example/inktray/internal/store"
)

// Installation is what is looked at.
type Installation struct {
	Store     *store.Store
	Office    *office.Office
	Mailboxes *mailboxes.Mailboxes
	Cabinets  *cabinets.Cabinets
	Registry  *registry.Registry
	Backups   *backups.Backups
	Outbox    *outbox.Outbox
	Reader    *reading.Reader
	Scanner   *scan.Scanner // nil where none is set up

	Clock  func() time.Time
	Steady func(ctx context.Context) (bool, error) // whether the clock can be trusted
	Status func(mailboxID string) mailboxes.Status // how a mailbox does
	// Replica says how the replica does; nil where none is kept.
	Replica func() replica.Report

	TLS        *tls.Config   // with which the interface is served; nil for none
	Reached    []*url.URL    // by which addresses people reach it
	DropDomain string        // of the drop addresses; "" where no mail is received
	Resolver   *net.Resolver // nil for the system's
}

// Everything looks at all that a person may see, and gives what is to be done first, first. Where the records cannot be
// read, there is an error.
func (in *Installation) Everything(ctx context.Context, v store.Viewer) ([]Finding, error) {
	boxes, err := in.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return nil, err
	}
	cabinets, err := in.Store.Cabinets.Seen(ctx, v)
	if err != nil {
		return nil, err
	}
	checks := []Check{{About: "records", Look: in.checkRecords}, {About: "disk", Look: in.checkDisk},
		{About: "clock", Look: in.checkClock}, {About: "secrets", Look: in.checkSecrets},
		{About: "rules", Look: in.checkRules}}
	for i := range boxes {
		checks = append(checks, Check{About: "mailbox", Name: boxes[i].Name,
			Look: func(ctx context.Context) Finding { return in.checkMailbox(ctx, &boxes[i]) }})
	}
	for i := range cabinets {
		checks = append(checks, Check{About: "cabinet", Name: cabinets[i].Name,
			Look: func(ctx context.Context) Finding { return in.checkCabinet(ctx, cabinets[i].ID) }})
	}
	found := Run(ctx, Patience, append(checks, Check{About: "certificate", Look: in.checkCertificate},
		Check{About: "drop addresses", Look: in.checkDrop}, Check{About: "outgoing mail", Look: in.checkOutgoing},
		Check{About: "backups", Look: in.checkBackups}, Check{About: "replica", Look: in.checkReplica},
		Check{About: "virus scanner", Look: in.checkScanner}, Check{About: "scans", Look: in.checkScans},
		Check{About: "confinement", Look: in.checkConfined}))
	if len(boxes) == 0 {
		found = append(found, about("mailbox", attention("Add one in Settings, or by inktray mailboxes add.",
			"there is no mailbox yet")))
	}
	if len(cabinets) == 0 {
		found = append(found, about("cabinet", attention("Add one in Settings, or by inktray cabinets add.",
			"there is no cabinet yet")))
	}
	use := headroom.Read()
	if f, known := Use("files and connections", use.Files.Now, use.Files.Most, ""); known {
		found = append(found, about("open files", f))
	}
	if f, known := Use("of memory", use.Memory.Now>>20, use.Memory.Most>>20, " MB"); known {
		found = append(found, about("memory", f))
	}
	Sort(found)
	return found, nil
}

func about(what string, f Finding) Finding {
	f.About = what
	return f
}

func (in *Installation) checkDisk(context.Context) Finding {
	room, err := in.Backups.Room()
	if err != nil {
		return wrong(err, "Check the disk on which Ink Tray keeps its data.")
	}
	return Room(room, filepath.Dir(in.Store.Path()))
}

func wrong(err error, advice string) Finding {
	if t := store.TroubleOf(err); t != nil {
		return Finding{State: Wrong, Text: phrase.TrimStop(t.Problem), Advice: t.Advice}
	}
	return Finding{State: Wrong, Text: phrase.TrimStop(err.Error()), Advice: advice}
}

func works(text string, args ...any) Finding {
	return Finding{State: Works, Text: fmt.Sprintf(text, args...)}
}

func unused(text string) Finding { return Finding{State: Unused, Text: text} }

func attention(advice, text string, args ...any) Finding {
	return Finding{State: Caution, Text: fmt.Sprintf(text, args...), Advice: advice}
}

func (in *Installation) checkRecords(ctx context.Context) Finding {
	found, err := in.Registry.ExamineRecords(ctx, false)
	if err == nil && len(found) > 0 {
		err = errors.New(found[0])
	}
	if err != nil {
		return wrong(err, store.DamagedAdvice)
	}
	return works("the records are whole (quick check)")
}

func (in *Installation) checkClock(ctx context.Context) Finding {
	steady, err := in.Steady(ctx)
	switch {
	case err != nil:
		return wrong(err, "Try again.")
	case !steady:
		return attention("Set the clock, or say in the tray that it is right.",
			"the clock of this machine differs from what was last seen; it says %s", in.Clock().Format("2006-01-02 15:04"))
	}
	return works("the clock says %s", in.Clock().Format("2006-01-02 15:04"))
}

func (in *Installation) checkSecrets(ctx context.Context) Finding {
	boxes, err1 := in.Store.Mailboxes.All(ctx, store.System)
	cabinets, err2 := in.Store.Cabinets.All(ctx)
	if err := errors.Join(err1, err2); err != nil {
		return wrong(err, "Try again.")
	}
	for i := range boxes {
		if _, err := in.Store.Mailboxes.Secret(&boxes[i]); err != nil {
			return wrong(fmt.Errorf("the key of the records does not open the secret of the mailbox “%s”", boxes[i].Name),
				"Put the right key file back beside the records, or enter the password again.")
		}
	}
	for i := range cabinets {
		if _, err := in.Store.Cabinets.Secret(&cabinets[i]); err != nil {
			return wrong(fmt.Errorf("the key of the records does not open the secret of the cabinet “%s”", cabinets[i].Name),
				"Put the right key file back beside the records, or enter the password again.")
		}
	}
	return works("the key of the records opens all secrets")
}

func (in *Installation) checkRules(context.Context) Finding {
	on := len(in.Office.Settings().Rules)
	if on == 0 {
		return attention("Write a rule, rehearse it, and switch it on.", "no rule is on, so nothing is filed")
	}
	if on == 1 {
		return works("1 rule is on")
	}
	return works("%d rules are on", on)
}

func (in *Installation) checkMailbox(ctx context.Context, m *store.Mailbox) Finding {
	if status := in.Status(m.ID); status.State == mailboxes.Slowed { // it is asked to do less, so it is left alone
		return Finding{State: Caution, Text: phrase.TrimStop(status.Problem), Advice: status.Advice}
	}
	secret, err := in.Store.Mailboxes.Secret(m)
	if err != nil {
		return wrong(err, "Enter the password again.")
	}
	detail := ""
	for _, c := range in.Mailboxes.TryReach(ctx, m, secret) {
		if !c.OK {
			return Finding{State: Wrong, Text: string(c.Step) + ": " + phrase.TrimStop(c.Detail),
				Advice: c.Advice}
		}
		detail = c.Detail
	}
	return works("%s", phrase.TrimStop(detail))
}

func (in *Installation) checkCabinet(ctx context.Context, id string) Finding {
	proof, err := in.Cabinets.ProveCabinet(ctx, id)
	switch {
	case err != nil:
		return wrong(err, "Check the cabinet's place. When it is back, Ink Tray files what waits for it.")
	case proof.Room >= 0 && proof.Room < LittleRoom:
		return attention("Free some space there.", "only %d MB are left there", proof.Room>>20)
	case proof.Room >= 0:
		return works("it can be written to; %d GB are left", proof.Room>>30)
	}
	return works("it can be written to")
}

func (in *Installation) checkCertificate(ctx context.Context) Finding {
	if in.TLS == nil {
		return unused("the service has no certificate of its own")
	}
	host := ""
	if len(in.Reached) > 0 {
		host = in.Reached[0].Hostname()
	}
	c, err := shown(ctx, in.TLS, host)
	if err != nil {
		return wrong(fmt.Errorf("the service cannot show a certificate: %w", err),
			"Check the options --certificate or --acme, and the log.")
	}
	var missing []string
	for _, u := range in.Reached {
		if c.VerifyHostname(u.Hostname()) != nil {
			missing = append(missing, u.Hostname())
		}
	}
	return Certificate(c.NotBefore, c.NotAfter, in.Clock(), missing)
}

// shown is the certificate that a browser would be shown, by a handshake that leaves this program nowhere.
func shown(ctx context.Context, config *tls.Config, host string) (*x509.Certificate, error) {
	here, there := net.Pipe()
	defer here.Close()
	defer there.Close()
	served := make(chan error, 1)
	go func() { served <- tls.Server(there, config).HandshakeContext(ctx) }()
	browser := tls.Client(here, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: true}) // what is wrong with it is said by Certificate
	if err := browser.HandshakeContext(ctx); err != nil {
		here.Close()
		if problem := <-served; problem != nil {
			err = problem
		}
		return nil, err
	}
	return browser.ConnectionState().PeerCertificates[0], nil
}

func (in *Installation) checkDrop(ctx context.Context) Finding {
	domain := in.DropDomain
	if domain == "" {
		return unused("this service does not receive mail")
	}
	resolver := in.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	servers, err := resolver.LookupMX(ctx, domain)
	if err == nil && len(servers) == 1 && servers[0].Host == "." { // RFC 7505
		return wrong(fmt.Errorf("the domain %s says that it receives no mail", domain),
			"Publish an MX record for this domain that names this machine.")
	}
	if err != nil || len(servers) == 0 {
		if addresses, err := resolver.LookupHost(ctx, domain); err == nil && len(addresses) > 0 {
			return works("mail for %s goes to %s, since it names no mail server", domain, addresses[0])
		}
		return wrong(fmt.Errorf("no mail server can be found for %s", domain),
			"Publish an MX record for this domain that names this machine.")
	}
	return works("mail for %s goes to %s", domain, strings.TrimSuffix(servers[0].Host, "."))
}

func (in *Installation) checkOutgoing(ctx context.Context) Finding {
	out, _, err := in.Store.Settings.Outgoing(ctx)
	if err != nil {
		return wrong(err, "Enter the password of the outgoing mail again.")
	}
	if !out.Sends() {
		people, err := in.Store.Alarms.Addressees(ctx)
		if err != nil {
			return wrong(err, "Try again.")
		}
		for _, p := range people {
			if len(p.Addresses) > 0 {
				return attention("Set it up in Settings, or by inktray outgoing set.",
					"no server for outgoing mail is set up, so “%s” gets no notifications", p.Name)
			}
		}
		return unused("no server for outgoing mail is set up, and nobody is to get mail")
	}
	if err := in.Outbox.CheckOutgoing(ctx); err != nil {
		return wrong(err, "Check Settings, Notifications, Outgoing mail.")
	}
	if out.Host == "" {
		return works("mail is sent through a mailbox")
	}
	return works("%s lets Ink Tray in", out.Host)
}

func (in *Installation) checkBackups(ctx context.Context) Finding {
	done, failed, err1 := in.Store.Settings.Backups(ctx)
	plan, _, err2 := in.Store.Settings.BackupPlan(ctx)
	if err := errors.Join(err1, err2); err != nil {
		return wrong(err, "Set the backups again in Settings.")
	}
	every, problem := 0, ""
	if plan.Place != "" {
		every = max(plan.EveryDays, 1)
	}
	if failed != nil && !failed.At.IsZero() {
		problem = phrase.TrimStop(failed.Problem)
	}
	if done == nil {
		return Backup(nil, problem, every, in.Clock())
	}
	return Backup(&done.At, problem, every, in.Clock())
}

// behind is how old a change that is not in the replica may be.
const behind = 60

func (in *Installation) checkReplica(context.Context) Finding {
	if in.Replica == nil {
		return unused("no replica is kept")
	}
	r := in.Replica()
	switch {
	case r.Problem != "":
		return wrong(errors.New(r.Problem), "Check the place of the replica.")
	case r.Behind.Seconds() > behind:
		return attention("See whether the place of the replica is slow.", "the replica is %d seconds behind",
			int(r.Behind.Seconds()))
	}
	return works("the replica in %s is %d seconds behind; %d machines wait to take over", r.Place, int(r.Behind.Seconds()),
		len(r.Waiting))
}

func (in *Installation) checkScanner(ctx context.Context) Finding {
	if in.Scanner == nil {
		return unused("no virus scanner is set up")
	}
	says, err := in.Scanner.Ping(ctx)
	if err != nil {
		return wrong(err, "Start the scanner, or correct the option --virus-scanner.")
	}
	return works("it answers: %s", phrase.TrimStop(says))
}

func (in *Installation) checkScans(ctx context.Context) Finding {
	found, err := in.Reader.LookForTesseract(ctx)
	if err != nil || found == nil {
		return unused("Tesseract is not installed, so scans are not read")
	}
	return works("Tesseract reads scans")
}

func (in *Installation) checkConfined(context.Context) Finding {
	could, known := in.Reader.Confined()
	switch {
	case !known:
		return unused("no process for attachments has run yet")
	case len(could) > 0:
		return attention("docs/security.md says which kernel confines them fully.",
			"the processes that read attachments could %s", strings.Join(could, ", "))
	}
	return works("the processes that read attachments can open nothing else")
}
