package api

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strings"

	"inktray.example/inktray/internal/checkup"
	"inktray.example/inktray/internal/core/phrase"
	"inktray.example/inktray/internal/headroom"
	"inktray.example/inktray/internal/store"
)

// CheckEverything looks whether the installation can do its work.
func (s *placeHandlers) CheckEverything(ctx context.Context,
	_ CheckEverythingRequestObject) (CheckEverythingResponseObject, error) {
	checks := []checkup.Check{
		{About: "records", Look: s.checkRecords},
		{About: "disk", Look: func(context.Context) checkup.Finding {
			room, err := s.Engine.Backups.Room()
			if err != nil {
				return wrong(err, "Check the disk on which Ink Tray keeps its data.")
			}
			return checkup.Room(room, filepath.Dir(s.Store.Path()))
		}},
		{About: "clock", Look: s.checkClock},
		{About: "secrets", Look: s.checkSecrets},
		{About: "rules", Look: s.checkRules},
	}
	boxes, err1 := s.Store.Mailboxes.All(ctx, viewerOf(ctx))
	cabinets, err2 := s.Store.Cabinets.Seen(ctx, viewerOf(ctx))
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	for i := range boxes {
		checks = append(checks, checkup.Check{About: "mailbox", Name: boxes[i].Name,
			Look: func(ctx context.Context) checkup.Finding { return s.checkMailbox(ctx, &boxes[i]) }})
	}
	for i := range cabinets {
		checks = append(checks, checkup.Check{About: "cabinet", Name: cabinets[i].Name,
			Look: func(ctx context.Context) checkup.Finding { return s.checkCabinet(ctx, cabinets[i].ID) }})
	}
	if len(boxes) == 0 {
		checks = append(checks, checkup.Check{About: "mailbox", Look: func(context.Context) checkup.Finding {
			return attention("Add one in Settings, or by inktray mailboxes add.", "there is no mailbox yet")
		}})
	}
	if len(cabinets) == 0 {
		checks = append(checks, checkup.Check{About: "cabinet", Look: func(context.Context) checkup.Finding {
			return attention("Add one in Settings, or by inktray cabinets add.", "there is no cabinet yet")
		}})
	}
	checks = append(checks,
		checkup.Check{About: "certificate", Look: s.checkCertificate},
		checkup.Check{About: "drop addresses", Look: s.checkDrop},
		checkup.Check{About: "outgoing mail", Look: s.checkOutgoing},
		checkup.Check{About: "backups", Look: s.checkBackups},
		checkup.Check{About: "replica", Look: s.checkReplica},
		checkup.Check{About: "virus scanner", Look: s.checkScanner},
		checkup.Check{About: "scans", Look: s.checkScans},
		checkup.Check{About: "confinement", Look: s.checkConfined},
	)
	found := checkup.Run(ctx, checkup.Patience, checks)
	use := headroom.Read()
	for _, of := range []struct {
		about, what, unit string
		now, most         int64
	}{{"open files", "files and connections", "", use.Files.Now, use.Files.Most},
		{"memory", "of memory", " MB", use.Memory.Now >> 20, use.Memory.Most >> 20}} {
		if f, known := checkup.Use(of.what, of.now, of.most, of.unit); known {
			f.About = of.about
			found = append(found, f)
		}
	}
	checkup.Sort(found)
	out := Checkup{State: CheckupState(checkup.Worst(found)), At: s.Clock(), Version: s.Version}
	for _, f := range found {
		out.Findings = append(out.Findings, CheckupFinding{About: f.About, Name: optional(f.Name),
			State: CheckupState(f.State), Text: f.Text, Advice: optional(f.Advice)})
	}
	return CheckEverything200JSONResponse(out), nil
}

func wrong(err error, advice string) checkup.Finding {
	if t := store.TroubleOf(err); t != nil {
		return checkup.Finding{State: checkup.Wrong, Text: phrase.TrimStop(t.Problem), Advice: t.Advice}
	}
	return checkup.Finding{State: checkup.Wrong, Text: phrase.TrimStop(err.Error()), Advice: advice}
}

func works(text string, args ...any) checkup.Finding {
	return checkup.Finding{State: checkup.Works, Text: fmt.Sprintf(text, args...)}
}

func unused(text string) checkup.Finding { return checkup.Finding{State: checkup.Unused, Text: text} }

func attention(advice, text string, args ...any) checkup.Finding {
	return checkup.Finding{State: checkup.Caution, Text: fmt.Sprintf(text, args...), Advice: advice}
}

func (s *placeHandlers) checkRecords(ctx context.Context) checkup.Finding {
	found, err := s.Engine.Registry.ExamineRecords(ctx, false)
	if err == nil && len(found) > 0 {
		err = errors.New(found[0])
	}
	if err != nil {
		return wrong(err, store.DamagedAdvice)
	}
	return works("the records are whole (quick check)")
}

func (s *placeHandlers) checkClock(ctx context.Context) checkup.Finding {
	steady, err := s.Engine.ClockSteady(ctx)
	switch {
	case err != nil:
		return wrong(err, "Try again.")
	case !steady:
		return attention("Set the clock, or say in the tray that it is right.",
			"the clock of this machine differs from what was last seen; it says %s", s.Clock().Format("2006-01-02 15:04"))
	}
	return works("the clock says %s", s.Clock().Format("2006-01-02 15:04"))
}

func (s *placeHandlers) checkSecrets(ctx context.Context) checkup.Finding {
	boxes, err1 := s.Store.Mailboxes.All(ctx, store.System)
	cabinets, err2 := s.Store.Cabinets.All(ctx)
	if err := errors.Join(err1, err2); err != nil {
		return wrong(err, "Try again.")
	}
	for i := range boxes {
		if _, err := s.Store.Mailboxes.Secret(&boxes[i]); err != nil {
			return wrong(fmt.Errorf("the key of the records does not open the secret of the mailbox “%s”", boxes[i].Name),
				"Put the right key file back beside the records, or enter the password again.")
		}
	}
	for i := range cabinets {
		if _, err := s.Store.Cabinets.Secret(&cabinets[i]); err != nil {
			return wrong(fmt.Errorf("the key of the records does not open the secret of the cabinet “%s”", cabinets[i].Name),
				"Put the right key file back beside the records, or enter the password again.")
		}
	}
	return works("the key of the records opens all secrets")
}

func (s *placeHandlers) checkRules(context.Context) checkup.Finding {
	on := len(s.Engine.Office.Settings().Rules)
	if on == 0 {
		return attention("Write a rule, rehearse it, and switch it on.", "no rule is on, so nothing is filed")
	}
	if on == 1 {
		return works("1 rule is on")
	}
	return works("%d rules are on", on)
}

func (s *placeHandlers) checkMailbox(ctx context.Context, m *store.Mailbox) checkup.Finding {
	if status := s.Engine.Status(m.ID); status.State == "slowed down" { // it is asked to do less, so it is left alone
		return checkup.Finding{State: checkup.Caution, Text: phrase.TrimStop(status.Problem), Advice: status.Advice}
	}
	secret, err := s.Store.Mailboxes.Secret(m)
	if err != nil {
		return wrong(err, "Enter the password again.")
	}
	detail := ""
	for _, c := range s.Engine.Mailboxes.TryReach(ctx, m, secret) {
		if !c.OK {
			return checkup.Finding{State: checkup.Wrong, Text: string(c.Step) + ": " + phrase.TrimStop(c.Detail),
				Advice: c.Advice}
		}
		detail = c.Detail
	}
	return works("%s", phrase.TrimStop(detail))
}

func (s *placeHandlers) checkCabinet(ctx context.Context, id string) checkup.Finding {
	proof, err := s.Engine.Cabinets.ProveCabinet(ctx, id)
	switch {
	case err != nil:
		return wrong(err, "Check the cabinet's place. What waits for it is filed when it is back.")
	case proof.Room >= 0 && proof.Room < checkup.LittleRoom:
		return attention("Make room there.", "only %d MB are left there", proof.Room>>20)
	case proof.Room >= 0:
		return works("it can be written to; %d GB are left", proof.Room>>30)
	}
	return works("it can be written to")
}

func (s *placeHandlers) checkCertificate(context.Context) checkup.Finding {
	if s.TLS == nil {
		return unused("the service has no certificate of its own")
	}
	host := ""
	if len(s.Reached) > 0 {
		host = s.Reached[0].Hostname()
	}
	get := s.TLS.GetCertificate
	if get == nil {
		return unused("the certificate cannot be looked at")
	}
	c, err := get(&tls.ClientHelloInfo{ServerName: host})
	if err == nil && (c == nil || c.Leaf == nil) {
		err = errors.New("there is no certificate yet")
	}
	if err != nil {
		return wrong(err, "Check the options --certificate or --acme.")
	}
	var missing []string
	for _, u := range s.Reached {
		if c.Leaf.VerifyHostname(u.Hostname()) != nil {
			missing = append(missing, u.Hostname())
		}
	}
	return checkup.Certificate(c.Leaf.NotBefore, c.Leaf.NotAfter, s.Clock(), missing)
}

func (s *placeHandlers) checkDrop(ctx context.Context) checkup.Finding {
	domain := s.Engine.DropDomain
	if domain == "" {
		return unused("this service does not receive mail")
	}
	resolver := s.Engine.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	servers, err := resolver.LookupMX(ctx, domain)
	if err != nil || len(servers) == 0 {
		if addresses, err := resolver.LookupHost(ctx, domain); err == nil && len(addresses) > 0 {
			return works("mail for %s goes to %s, since it names no mail server", domain, addresses[0])
		}
		return checkup.Finding{State: checkup.Wrong, Text: fmt.Sprintf("nobody can find where mail for %s goes", domain),
			Advice: "Publish an MX record for this domain that names this machine."}
	}
	return works("mail for %s goes to %s", domain, strings.TrimSuffix(servers[0].Host, "."))
}

func (s *placeHandlers) checkOutgoing(ctx context.Context) checkup.Finding {
	out, _, err := s.Store.Settings.Outgoing(ctx)
	if err != nil {
		return wrong(err, "Enter the password of the outgoing mail again.")
	}
	if out.Host == "" {
		return unused("no server for outgoing mail is set up, so nobody is told by mail")
	}
	if err := s.Engine.Outbox.CheckOutgoing(ctx); err != nil {
		return wrong(err, "Check Settings: Outgoing mail.")
	}
	return works("%s lets Ink Tray in", out.Host)
}

func (s *placeHandlers) checkBackups(ctx context.Context) checkup.Finding {
	done, failed, err1 := s.Store.Settings.Backups(ctx)
	plan, _, err2 := s.Store.Settings.BackupPlan(ctx)
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
		return checkup.Backup(nil, problem, every, s.Clock())
	}
	return checkup.Backup(&done.At, problem, every, s.Clock())
}

// behind is how old a change that is not in the replica may be.
const behind = 60

func (s *placeHandlers) checkReplica(context.Context) checkup.Finding {
	if s.Replica == nil {
		return unused("no replica is kept")
	}
	r := s.Replica.Report()
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

func (s *placeHandlers) checkScanner(ctx context.Context) checkup.Finding {
	if s.Engine.Scanner == nil {
		return unused("no virus scanner is set up")
	}
	says, err := s.Engine.Scanner.Ping(ctx)
	if err != nil {
		return wrong(err, "Start the scanner, or correct the option --virus-scanner.")
	}
	return works("it answers: %s", phrase.TrimStop(says))
}

func (s *placeHandlers) checkScans(ctx context.Context) checkup.Finding {
	found, err := s.Engine.Reader.LookForTesseract(ctx)
	if err != nil || found == nil {
		return unused("Tesseract is not installed, so scans are not read")
	}
	return works("Tesseract reads scans")
}

func (s *placeHandlers) checkConfined(context.Context) checkup.Finding {
	could, known := s.Engine.Reader.Confined()
	switch {
	case !known:
		return unused("no process for attachments has run yet")
	case len(could) > 0:
		return attention("docs/security.md says which kernel confines them fully.",
			"the processes that read attachments could %s", strings.Join(could, ", "))
	}
	return works("the processes that read attachments can open nothing else")
}
