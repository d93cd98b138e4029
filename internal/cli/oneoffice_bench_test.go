package cli

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkOneOffice lets five services, each with 200 mailboxes of a real server and 200,000 filings, be one office,
// and asks one of them for all.
func BenchmarkOneOffice(b *testing.B) {
	const services, mailboxes, each = 5, 200, manyFilings / 5
	b.Setenv(replicaPassphrase, officePhrase)
	d := testbed.StartDovecot(b)
	base := *benchRecords
	if base == "" {
		base = b.TempDir()
	}
	secret, everywhere := "pw", true
	var all []*process
	var places []string
	for i := range services {
		folder := filepath.Join(base, fmt.Sprintf("machine-%d", i))
		if err := os.MkdirAll(folder, 0o700); err != nil {
			b.Fatal(err)
		}
		if records := filepath.Join(folder, "records"); os.Mkdir(records, 0o700) == nil {
			setUp(b, records, filled(b, each))
		}
		place := b.TempDir()
		p := startProcessIn(b, folder, "--machine", fmt.Sprintf("machine-%d", i), "--replica", place)
		known, err := call[[]client.Mailbox](p.api.ListMailboxes(b.Context()))
		if err != nil {
			b.Fatal(err)
		}
		for n := len(known); n < mailboxes; n++ {
			name := fmt.Sprintf("box-%d-%d", i, n)
			if _, err := call[client.Mailbox](p.api.AddMailbox(b.Context(), client.MailboxSettings{Name: name,
				Host: "127.0.0.1", Port: &d.IMAP, Encryption: "none", Username: name, Secret: &secret})); err != nil {
				b.Fatal(err)
			}
		}
		all, places = append(all, p), append(places, place)
	}
	first := all[0]
	scope := client.ScopeMachine
	began := time.Now()
	for i, p := range all[1:] {
		token, err := call[client.Token](p.api.MakeToken(b.Context(), client.TokenRequest{Label: "office", Scope: &scope}))
		if err != nil {
			b.Fatal(err)
		}
		phrase := officePhrase
		for deadline := time.Now().Add(3 * time.Minute); ; time.Sleep(time.Second) {
			_, err := call[client.Machine](first.api.AddMachine(b.Context(), client.MachineSettings{
				Name: fmt.Sprintf("machine-%d", i+1), Address: p.url, Place: places[i+1], Token: &token.Token,
				Passphrase: &phrase}))
			if err == nil {
				break
			}
			if time.Now().After(deadline) {
				b.Fatal(err)
			}
		}
	}
	for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(time.Second) {
		page, err := call[client.RegisterPage](first.api.ListRegister(b.Context(),
			&client.ListRegisterParams{Everywhere: &everywhere}))
		if err != nil {
			b.Fatal(err)
		}
		if page.Total > 0 && page.Missing == nil {
			b.Logf("%d filings of %d services are one register, %v after the first was added", page.Total, services,
				time.Since(began).Round(time.Second))
			break
		}
		if time.Now().After(deadline) {
			b.Fatalf("after five minutes the register has %d lines, missing %v", page.Total, page.Missing)
		}
	}
	loaded, _ := megabytes(b, first.command.Process.Pid)
	b.Run("questions", func(b *testing.B) {
		askedOften(b, first.get, url.Values{"everywhere": {"true"}}, loaded, 250)
	})
}
