package office

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/store"
)

// Scans says how the text in scanned papers and pictures is read.
type Scans struct {
	Off       bool     `json:"off,omitempty"`       // it is not read at all
	Languages []string `json:"languages,omitempty"` // as Tesseract calls them, such as deu; none for all that are installed
	Pages     int      `json:"pages,omitempty"`     // at most of one file
}

// Bounds of what is read of one file.
const (
	UsualScanned = 10
	MostScanned  = 100
)

var languageOf = regexp.MustCompile(`^[a-z][a-z_]{1,20}$`)

// loadScans reads how scans are read.
func (o *Office) loadScans(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx) // what was saved is taken up in any case
	return o.change(func(next *Snapshot) error {
		s := Scans{Pages: UsualScanned}
		kept, err := o.Store.Settings.Get(ctx, store.ScansSetting)
		if err == nil && kept != "" {
			err = json.Unmarshal([]byte(kept), &s)
		}
		next.Scans = s
		next.Pictures = o.tesseract.Load() && !s.Off
		return err
	})
}

// SetScans keeps how scans are read. installed are the languages that there are. The error, if any, may be
// rule.Problems.
func (o *Office) SetScans(ctx context.Context, s Scans, installed []string, revision int, actor string) error {
	kept := []string{}
	for i, l := range s.Languages {
		l = strings.ToLower(strings.TrimSpace(l))
		switch {
		case l == "" || slices.Contains(kept, l):
			continue
		case !languageOf.MatchString(l) || len(installed) > 0 && !slices.Contains(installed, l):
			return rule.Problems{{Place: fmt.Sprintf("languages[%d]", i), Text: fmt.Sprintf(
				"Tesseract has no language “%s” here; installed are %s", l, strings.Join(installed, ", "))}}
		}
		kept = append(kept, l)
	}
	if s.Languages = kept; s.Pages < 1 || s.Pages > MostScanned {
		return rule.Problems{{Place: "pages", Text: fmt.Sprintf("from 1 to %d pages of one file can be read", MostScanned)}}
	}
	data, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if err := o.Store.Settings.Change(ctx, store.ScansSetting, string(data), revision, "change how scans are read",
		actor); err != nil {
		return err
	}
	return o.loadScans(ctx)
}

// TesseractIsThere notes whether Tesseract is there.
func (o *Office) TesseractIsThere(ctx context.Context, there bool) error {
	if o.tesseract.Swap(there) == there {
		return nil
	}
	return o.loadScans(ctx)
}
