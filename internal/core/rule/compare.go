package rule

import "strings"

// Line is one line of a comparison: in both, only in the first ("was"), or only
// in the second ("now").
type Line struct {
	In   string `json:"in"` // "both", "was" or "now"
	Text string `json:"text"`
}

// lines writes a rule as people read it, a line each; its id is left out.
func (r *Rule) lines() []string {
	plain := *r
	plain.ID = ""
	text, err := YAML(plain)
	if err != nil {
		return nil
	}
	return strings.Split(strings.TrimRight(string(text), "\n"), "\n")
}

// Compare sets two states of a rule side by side.
func Compare(was, now *Rule) []Line {
	a, b := was.lines(), now.lines()
	// The longest common subsequence; documents have some dozens of lines.
	const most = 2000
	a, b = a[:min(len(a), most)], b[:min(len(b), most)]
	long := make([][]int, len(a)+1)
	for i := range long {
		long[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				long[i][j] = long[i+1][j+1] + 1
			} else {
				long[i][j] = max(long[i+1][j], long[i][j+1])
			}
		}
	}
	var out []Line
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			out = append(out, Line{"both", a[i]})
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && long[i+1][j] >= long[i][j+1]:
			out = append(out, Line{"was", a[i]})
			i++
		default:
			out = append(out, Line{"now", b[j]})
			j++
		}
	}
	return out
}

// Alike says how similar two rules are, from 0 to 1, without regard to their names. It is used to ask whether a rule
// was renamed.
func Alike(a, b *Rule) float64 {
	same, all := 0, 0
	for _, l := range Compare(a, b) {
		if strings.HasPrefix(l.Text, "name:") {
			continue
		}
		all++
		if l.In == "both" {
			same++
		}
	}
	if all == 0 {
		return 0
	}
	return float64(same) / float64(all)
}
