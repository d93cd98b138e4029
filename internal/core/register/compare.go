package register

import (
	"cmp"
	"strings"
)

// CompareLines orders lines of several registers as each register orders its own: by their places in an order that
// Query has, then by their numbers.
func CompareLines(sort Sort, ascending bool) func(a, b *Line) int {
	words := func(of func(l *Line) string) func(a, b *Line) int {
		return func(a, b *Line) int { return strings.Compare(Fold(of(a)), Fold(of(b))) }
	}
	by := func(a, b *Line) int { return 0 }
	switch sort {
	case ByReceived:
		by = func(a, b *Line) int { return cmp.Compare(second(a.Received), second(b.Received)) }
	case ByFiled:
		by = func(a, b *Line) int { return cmp.Compare(second(a.Filed), second(b.Filed)) }
	case BySize:
		by = func(a, b *Line) int { return cmp.Compare(a.Size, b.Size) }
	case BySender:
		by = words(func(l *Line) string { return l.SenderName + sep + l.SenderAddress })
	case ByFolder:
		by = words(func(l *Line) string { return l.Cabinet + sep + l.Folder })
	case ByKind:
		by = words(func(l *Line) string { return l.Kind })
	case ByRule:
		by = words(func(l *Line) string { return l.Rule })
	case ByMailbox:
		by = words(func(l *Line) string { return l.Mailbox })
	case BySubject:
		by = words(func(l *Line) string { return l.Subject })
	case ByFile:
		by = words(func(l *Line) string { return l.File })
	case ByNumber, "":
	default:
		key := func(l *Line) (k valueKey) {
			for i := range l.Values {
				if l.Values[i].Name == string(sort) {
					k = keyOf(l.Values[i].Type, []byte(Fold(l.Values[i].Text)))
				}
			}
			return k
		}
		by = func(a, b *Line) int {
			of, other := key(a), key(b)
			return of.compare(&other, ascending)
		}
	}
	return func(a, b *Line) int {
		r := cmp.Or(by(a, b), cmp.Compare(a.Number.key(), b.Number.key()))
		if !ascending {
			r = -r
		}
		return r
	}
}
