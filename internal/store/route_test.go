package store

import (
	"errors"
	"reflect"
	"testing"
)

// each changes one thing after the other in a copy of a value, and says by name what it changed.
func each[T any](of T, try func(name string, changed T)) {
	var walk func(v reflect.Value, name string, root *T)
	walk = func(v reflect.Value, name string, root *T) {
		switch v.Kind() {
		case reflect.Pointer:
			if !v.IsNil() {
				walk(v.Elem(), name, root)
			}
		case reflect.Struct:
			for i := range v.NumField() {
				if v.Type().Field(i).IsExported() {
					walk(v.Field(i), name+"."+v.Type().Field(i).Name, root)
				}
			}
		case reflect.String:
			was := v.String()
			v.SetString(was + "x")
			try(name, *root)
			v.SetString(was)
		case reflect.Int:
			was := v.Int()
			v.SetInt(was + 1)
			try(name, *root)
			v.SetInt(was)
		}
	}
	walk(reflect.ValueOf(&of), "", &of)
}

// What decides where a secret goes, and how it is protected on the way, is all of its route.
func TestASecretOpensOnItsOwnRouteOnly(t *testing.T) {
	s := opened(t)
	free := map[string]bool{".Name": true, ".IntervalSeconds": true, ".Path": true, ".Address": true, ".Revision": true,
		".Particulars.LeaveDays": true, ".Particulars.Word": true,
		".Mode": true, ".Owner": true, ".Identity": true, ".From": true, ".Console": true, ".Tray": true, ".DailyAt": true}
	box := Mailbox{ID: "m", Name: "gauges", Kind: "imap", Host: "mail.example", Port: 993, Encryption: "tls",
		Username: "gauges",
		Particulars: Particulars{Proxy: "socks5://127.0.0.1:1080", Pinned: "ab",
			Consent: &Consent{Issuer: "i", ClientID: "c"}}}
	if err := s.Mailboxes.Add(t.Context(), &box, "slack water", "test"); err != nil {
		t.Fatal(err)
	}
	tried, own := 0, *box.Particulars.Consent
	original := box
	original.Particulars.Consent = &own
	each(box, func(name string, m Mailbox) {
		tried++
		secret, err := s.Mailboxes.Secret(&m)
		if opens := err == nil && secret == "slack water"; opens != free[name] {
			t.Errorf("with another %s the mailbox's secret opens: %v, %v", name, opens, err)
		}
		if len(m.OtherRoute(&original)) == 0 != free[name] && name != ".ID" {
			t.Errorf("with another %s the route differs in %q", name, m.OtherRoute(&original))
		}
		if free[name] || name == ".ID" {
			return
		}
		if err := s.Mailboxes.Change(t.Context(), &m, nil, 1, "test"); !errors.Is(err, ErrRoute) {
			t.Errorf("a change of %s without a secret: %v", name, err)
		}
		if err := s.Mailboxes.SetSecret(t.Context(), &m, "another token"); !errors.Is(err, ErrRoute) {
			t.Errorf("a token that was got with another %s is kept: %v", name, err)
		}
	})
	without := box
	without.Particulars.Consent = nil
	if _, err := s.Mailboxes.Secret(&without); !errors.Is(err, ErrRoute) || len(without.OtherRoute(&box)) == 0 {
		t.Errorf("without consent its token opens: %v", err)
	}
	shelf := Cabinet{ID: "c", Name: "harbour", Kind: "webdav", Folder: "https://files.example/a", Username: "u"}
	if err := errors.Join(s.Cabinets.Seal(&shelf, "slack water"), s.Cabinets.Add(t.Context(), &shelf,
		"test")); err != nil {
		t.Fatal(err)
	}
	each(shelf, func(name string, c Cabinet) {
		tried++
		if _, err := s.Cabinets.Secret(&c); (err == nil) != free[name] {
			t.Errorf("with another %s the cabinet's secret: %v", name, err)
		}
	})
	person := Addressee{
		Name:      "desk",
		Kind:      "call",
		URL:       "https://desk.example/hook",
		Addresses: []string{},
		Tray:      "never",
	}
	secret := "slack water"
	if err := s.Alarms.SaveAddressee(t.Context(), &person, &secret, "test"); err != nil {
		t.Fatal(err)
	}
	each(person, func(name string, a Addressee) {
		tried++
		if _, err := s.Alarms.SecretOf(&a); (err == nil) != free[name] {
			t.Errorf("with another %s the addressee's secret: %v", name, err)
		}
	})
	out := Outgoing{Host: "smtp.example", Port: 587, Encryption: "starttls", Username: "u"}
	if err := s.Settings.SetOutgoing(t.Context(), out, &secret, 0, "test"); err != nil {
		t.Fatal(err)
	}
	each(out, func(name string, o Outgoing) {
		tried++
		err := s.Settings.SetOutgoing(t.Context(), o, nil, 0, "test")
		if (err == nil) != free[name] {
			t.Errorf("changing the outgoing mail's %s without a password: %v", name, err)
		}
	})
	if _, password, err := s.Settings.Outgoing(t.Context()); err != nil || password != secret {
		t.Errorf("the password of outgoing mail is %q, %v", password, err)
	}
	if tried < 35 {
		t.Errorf("only %d changes were tried", tried)
	}
}

// Records from before secrets had routes keep theirs, bound to the route they have.
func TestSecretsOfOlderRecordsAreBoundToTheirRoute(t *testing.T) {
	folder := t.TempDir()
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	box := Mailbox{ID: "m", Name: "gauges", Kind: "imap", Host: "mail.example", Username: "gauges"}
	if err := s.Mailboxes.Add(t.Context(), &box, "new", "test"); err != nil {
		t.Fatal(err)
	}
	if box.Secret, err = s.seal("slack water", box.ID); err != nil {
		t.Fatal(err)
	}
	sealed, err := s.seal("tide", "outgoing/smtp.example")
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.write.Table("mailboxes").Where("id = 'm'").Update("secret", box.Secret).Error,
		s.Settings.setJSON(t.Context(), OutgoingSetting, Outgoing{Host: "smtp.example", Port: 587, Sealed: sealed}, 0,
			"test")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Mailboxes.Secret(&box); !errors.Is(err, ErrRoute) {
		t.Fatalf("a secret without a route opens: %v", err)
	}
	for range 2 {
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		if s, err = Open(folder); err != nil {
			t.Fatal(err)
		}
		if box, err = s.Mailboxes.ByID(t.Context(), System, "m"); err != nil {
			t.Fatal(err)
		}
		if got, err := s.Mailboxes.Secret(&box); err != nil || got != "slack water" {
			t.Errorf("after opening again: %q, %v", got, err)
		}
		if _, got, err := s.Settings.Outgoing(t.Context()); err != nil || got != "tide" {
			t.Errorf("of outgoing mail: %q, %v", got, err)
		}
	}
	box.Particulars.Proxy = "socks5://192.0.2.1:1"
	if _, err := s.Mailboxes.Secret(&box); !errors.Is(err, ErrRoute) {
		t.Errorf("on another route it opens: %v", err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
}
