package mailboxes

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

func TestADropAddressHasAWordForPeopleAndASecretPart(t *testing.T) {
	ms := New(Config{Base: base.New(base.Base{Clock: time.Now}), DropDomain: "drop.brackwater.example"})
	for _, c := range []struct{ name, word, begins string }{
		{"Gauges of the north mole", "", "gauges-of-the-north-mole-"}, {"any", "Dues", "dues-"}, {"Überall", "", "berall-"},
		{"!!!", "", "post-"},
	} {
		m := store.Mailbox{Name: c.name}
		if err := ms.NewAddress(&m, c.word); err != nil {
			t.Errorf("%q: %v", c.name, err)
			continue
		}
		local, domain, _ := strings.Cut(ms.DropAddress(&m), "@")
		secret := strings.TrimPrefix(local, c.begins)
		if domain != "drop.brackwater.example" || secret == local || len(secret) != secretLetters {
			t.Errorf("%q: the address is %s", c.name, ms.DropAddress(&m))
		}
		before := m.Address
		if err := ms.NewAddress(&m, m.Particulars.Word); err != nil || m.Address == before {
			t.Errorf("%q: a new address is the old one (%v)", c.name, err)
		}
	}
	var problems rule.Problems
	if err := ms.NewAddress(&store.Mailbox{}, "no spaces"); !errors.As(err, &problems) {
		t.Errorf("a word with a space: %v", err)
	}
	if err := New(Config{}).NewAddress(&store.Mailbox{}, "a"); !errors.Is(err, ErrNoReceiving) {
		t.Errorf("without a domain: %v", err)
	}
}

func TestSendersAreAddressesOrDomains(t *testing.T) {
	got, err := CheckSenders([]string{" @Tidewatch.example ", "Oda@Pilots.example", ""})
	if want := []string{"tidewatch.example", "oda@pilots.example"}; err != nil || !slices.Equal(got, want) {
		t.Errorf("got %q (%v), want %q", got, err, want)
	}
	for _, bad := range []string{"oda@", "no domain", "localhost"} {
		if got, err := CheckSenders([]string{bad}); err == nil {
			t.Errorf("%q is taken as %q", bad, got)
		}
	}
}
