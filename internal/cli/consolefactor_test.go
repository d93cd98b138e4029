package cli

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/demo"
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
	b.Sees("whoever knows your password signs in as you")
	b.Press("Set it up")
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
	b.Sees("Each works once, in place of a code of the app")
	barriers("codes for when the app is lost")
	var text string
	b.Run(`document.querySelector('[role=dialog]').innerText`, &text)
	codes := regexp.MustCompile(`[a-z0-9]{4}(-[a-z0-9]{4}){3}`).FindAllString(text, -1)
	if len(codes) != 10 {
		t.Fatalf("the codes are %v", codes)
	}
	b.Press("I have kept them")
	b.Sees("10 codes are left for when the app is lost")
	b.Press("People")
	b.Sees("has a second factor")
	b.Press("Change how people sign in")
	choose(b, "A second factor is asked", "of everyone")
	b.Type("Its address", o.authority.Issuer())
	b.Type("What this service is called there", "inktray")
	b.Type("What people call it", "Brackwater")
	b.Type("Roles, one in each line", "berth desk = clerk")
	b.Run(`[...document.querySelectorAll('label')].find((l) => l.innerText.startsWith('Let in whom')).click()`, nil)
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
