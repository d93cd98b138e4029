package mail

import (
	"bytes"
	"slices"
)

// MacroFinder looks for macros in an office file while it goes by: the parts in which
// Office Open XML (also those of Excel 4.0) and OpenDocument keep them, and the storage of
// old compound files (MS-OVBA section 2.2.1). It is handed the content as a writer.
type MacroFinder struct {
	Found bool
	tail  []byte
}

var macroMarks = [][]byte{[]byte("vbaProject.bin"), []byte("xl/macrosheets/"), []byte("Basic/script-lc.xml"),
	[]byte("Scripts/python/"), []byte("Scripts/beanshell/"), []byte("Scripts/javascript/"),
	[]byte("_\x00V\x00B\x00A\x00_\x00P\x00R\x00O\x00J\x00E\x00C\x00T\x00")}

const longestMark = 24

// Write looks at a part of the content.
func (f *MacroFinder) Write(p []byte) (int, error) {
	if f.Found {
		return len(p), nil
	}
	seam := slices.Concat(f.tail, p[:min(len(p), longestMark)])
	for _, m := range macroMarks {
		f.Found = f.Found || bytes.Contains(seam, m) || bytes.Contains(p, m)
	}
	if len(p) >= longestMark {
		f.tail = append(f.tail[:0], p[len(p)-longestMark:]...)
	} else {
		f.tail = append([]byte(nil), seam[max(0, len(seam)-longestMark):]...)
	}
	return len(p), nil
}
