package testbed

import "testing"

func TestOldMailIsTheSameEachTime(t *testing.T) {
	files, octets, size := 0, int64(0), 0
	for i := range 2000 {
		m, n, held := OldMail(1, i)
		again, _, _ := OldMail(1, i)
		if string(m) != string(again) {
			t.Fatalf("message %d differs", i)
		}
		files, octets, size = files+n, octets+held, size+len(m)
	}
	if files < 900 || files > 1300 || octets < 100e6 || octets > 170e6 {
		t.Errorf("2,000 messages of %d MB hold %d files of %d MB", size/1e6, files, octets/1e6)
	}
	t.Logf("2,000 messages of %d MB hold %d files of %d MB", size/1e6, files, octets/1e6)
}
