package cli

import (
	"strings"
	"testing"

	"inktray.example/inktray/internal/headroom"
)

// What there is little of is told in the tray, and no more once there is enough, also after a start.
func TestLittleHeadroomIsToldInTheTray(t *testing.T) {
	now := headroom.Reading{Files: headroom.Use{Now: 950, Most: 1024}, Memory: headroom.Use{Now: 90 << 20, Most: 1 << 30}}
	o := openOffice(t, empty, func(s *serviceOptions) { s.headroom = func() headroom.Reading { return now } })
	o.first()
	until(t, "it is told", func() bool {
		return strings.Contains(must(t, "tray", "list"), "950 files and connections open, of 1024")
	})
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	now.Files.Now = 100
	var err error
	if o.service, err = start(o.options); err != nil {
		t.Fatal(err)
	}
	t.Setenv("INKTRAY_SERVICE", o.service.address())
	until(t, "it is told no more", func() bool { return !strings.Contains(must(t, "tray", "list"), "connections open") })
}
