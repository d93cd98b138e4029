package password

import (
	"strings"
	"testing"
)

func TestPasswordsThatOthersTryFirstAreRefused(t *testing.T) {
	for _, weak := range []string{"", "short", "password", "Password123!", "P@ssw0rd1234", "passwordpassword",
		"1234567890", "0987654321", "qwertyuiop", "Qwertyuiop1!", "asdfghjkl;", "aaaaaaaaaa", "abababababab", "abcdefghijkl",
		"Summer2026!!", "Welcome12345", "letmein12345", "changeme-2026", "Administrator1", "inktray-inktray", "ines harbour",
		"inesharbour1", "Harbour12345", "iloveyou!!!!", "ｐａｓｓｗｏｒｄ１２３", "1q2w3e4r5t", "correct horse battery staple",
		"password\t1234"} {
		if Fault(weak, "Ines Harbour") == "" {
			t.Errorf("%q is taken", weak)
		}
	}
	for _, good := range []string{"slack water at noon", "brackwater-harbour", "twelve buoys, one lantern",
		"kB7-nurtle-93", "пароль для причала", "潮位表と桟橋の鍵を持つ人", strings.Repeat("tide table ", 90)} {
		if fault := Fault(good, "Ines Holm"); fault != "" {
			t.Errorf("%q is refused: %s", good, fault)
		}
	}
}
