package cli

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// An administrator sets up a second factor in the console and signs in with it, asks it of everyone, opens the office's
// own sign-in, and a colleague comes in by that.
func TestSigningInWithASecondFactorAndByTheOfficeInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	b := testbed.StartBrowser(t, 1280, 800)
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	signInAtTheDoor(b, o)
	b.Press("Ines Halloway")
	b.Sees("anyone who knows your password can sign in as you")
	b.Press("Set up an app")
	b.Type("Your password", "not this one")
	b.Press("Next")
	b.Sees("This is not your password.")
	b.Type("Your password", demo.Password)
	b.Press("Next")
	b.Sees("Scan this picture")
	barriers("the secret of an app")
	var secret string
	b.Run(`document.querySelector('[role=dialog] .font-mono').innerText`, &secret)
	secret = strings.ReplaceAll(secret, " ", "")
	b.Type("The code that the app shows now", "000000")
	b.Press("Confirm")
	b.Sees("This is not the code that the app shows now")
	b.Type("The code that the app shows now", codeAt(t, secret, time.Now()))
	b.Press("Confirm")
	b.Sees("Each works once, in place of the app or the passkey")
	barriers("recovery codes")
	var text string
	b.Run(`document.querySelector('[role=dialog]').innerText`, &text)
	codes := regexp.MustCompile(`[a-z0-9]{4}(-[a-z0-9]{4}){3}`).FindAllString(text, -1)
	if len(codes) != 10 {
		t.Fatalf("the codes are %v", codes)
	}
	b.Press("I have kept them")
	b.Sees("Codes of your authenticator app, asked for since")
	b.Sees("10 recovery codes are left")
	b.Press("People")
	b.Sees("has a second factor")
	b.Press("Change how people sign in")
	choose(b, "A second factor is asked", "of everyone")
	b.Type("Its address", o.authority.Issuer())
	b.Type("Name of Ink Tray there", "inktray")
	b.Type("Name that people see", "Brackwater")
	b.Type("Roles, one per line", "berth desk = clerk")
	b.Run(`[...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('Let people in whom')).click()`, nil)
	barriers("how people sign in")
	b.Press("Save")
	b.Sees("A second factor is asked of everyone.")
	b.Press("Sign out")

	b.Sees("Sign in with Brackwater")
	barriers("the door of the office")
	b.Type("Name", demoPerson)
	b.Type("Password", demo.Password)
	b.Press("Sign in")
	b.Sees("Code of your authenticator app")
	b.Type("Code of your authenticator app", "123")
	b.Press("Sign in")
	b.Sees("The code is not right, or was used already")
	barriers("the code is asked for")
	b.Type("Code of your authenticator app", codes[0])
	b.Press("Sign in")
	b.Sees("filed today")
	b.Press("Sign out")
	b.Sees("Sign in with Brackwater")
	b.Press("Sign in with Brackwater")
	b.Sees("You are about to sign in to")
	b.Run(`document.querySelector('[name=user]').value = 'rowan@brackwater.example'`, nil)
	b.Press("Allow")
	b.Sees("rowan")
	b.Sees("clerk")
}

// Somebody of whom a second factor is asked adds a passkey at the door, signs in by it alone, and removes it.
func TestAPasskeyIsAddedAndUsedInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theLast)
	at := strings.Replace(o.service.address(), "127.0.0.1", "localhost", 1) // browsers keep passkeys for names
	b := testbed.StartBrowser(t, 1280, 800)
	device := b.Device()
	barriers := barriersIn(t, b, source, "light", "dark")
	b.Scheme("light")
	rules := store.SignInRules{SecondFactor: store.FactorOfEveryone}
	if err := o.service.store.Settings.SetSignInRules(t.Context(), rules, nil, 0, "test"); err != nil {
		t.Fatal(err)
	}
	enter := func() {
		b.Type("Name", demoPerson)
		b.Type("Password", demo.Password)
		b.Press("Sign in")
	}
	b.Open(at + "/")
	b.Sees("Attachments, filed by rule.")
	if strings.Contains(b.Text(), "Sign in with a passkey") {
		t.Error("a passkey is offered, and nobody has one")
	}
	enter()
	b.Sees("One more thing")
	b.Press("Use a passkey of this device instead")
	barriers("a passkey at the door")
	b.Type("Name of the device", "laptop")
	b.Type("Your password", "not this one")
	b.Press("Add the passkey")
	b.Sees("This is not your password.")
	device(false)
	b.Type("Your password", demo.Password)
	b.Press("Add the passkey")
	b.Sees("The device gave no answer, or you said no. Nothing was changed.")
	device(true)
	b.Press("Add the passkey")
	b.Sees("Each works once, in place of the app or the passkey")
	var text string
	b.Run(`document.body.innerText`, &text)
	codes := regexp.MustCompile(`[a-z0-9]{4}(-[a-z0-9]{4}){3}`).FindAllString(text, -1)
	if len(codes) != 10 {
		t.Fatalf("the codes are %v", codes)
	}
	b.Press("I have kept them")
	b.Sees("filed today")
	b.Press("Sign out")

	b.Sees("Sign in with a passkey")
	barriers("the door with passkeys")
	device(false)
	b.Press("Sign in with a passkey")
	b.Sees("The device gave no answer, or you said no.")
	device(true)
	b.Press("Sign in with a passkey")
	b.Sees("filed today")
	b.Press("Ines Halloway")
	b.Sees("The passkey laptop for localhost, used last")
	barriers("one's own page with a passkey")
	b.Press("Add a passkey")
	b.Type("Name of the device", "laptop again")
	b.Type("Your password", demo.Password)
	b.Press("Add the passkey")
	b.Sees("This device has a passkey of yours already.")
	b.Key(testbed.Escape)
	b.Press("Remove the passkey laptop")
	b.Sees("You can then no longer sign in with this device.")
	b.Type("Your password", demo.Password)
	b.Press("Remove it")
	b.Sees("this is your only one")
	b.Press("Keep it")
	b.Press("Sign out")
	b.Sees("Sign in with a passkey")
	enter()
	b.Sees("You have a passkey: sign in with that, or give one of your recovery codes.")
	b.Type("Recovery code", codes[0])
	b.Press("Sign in")
	b.Sees("filed today")
}
