package rule

import (
	"fmt"
	"math"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"inktray.example/inktray/internal/core/topic"
)

// judged says how likely the message is about each topic; ok is false before its
// text was read.
func (in *Input) judged() ([]float64, bool) {
	if in.about == nil {
		if in.Message.Text == nil && in.Message.TextError == "" && !in.Message.Encrypted() {
			return nil, false
		}
		evidence := topic.Of(in.Message)
		features := topic.Read(&evidence)
		in.about = in.Topics.Judge(&features)
	}
	return in.about, true
}

// Confident is the confidence that the test asks for, from 0 to 1.
func (t *TopicTest) Confident() float64 {
	if t.Confidence == 0 {
		return topic.DefaultConfidence
	}
	return float64(t.Confidence) / 100
}

// topic compiles a test on what a message is about. What is neither surely about it
// nor surely not cannot be known, and so waits for a person.
func (c *compiler) topic(t *TopicTest, place string, add func(*test)) {
	if len(t.Is) == 0 {
		c.fail(place+".is", "", "the topic is missing")
		return
	}
	confidence := t.Confident()
	// look finds the topic that settles the answer, or else the most likely one.
	look := func(in *Input) (name string, likely float64, answer Answer) {
		answer = No
		for _, n := range t.Is {
			if about, said := in.said(n); said {
				switch {
				case about:
					return n, 1, Yes
				case answer == No && name == "":
					name, likely = n, 0
				}
				continue
			}
			found, at := in.Topics.Find(n)
			if found == nil || !found.Ready() {
				if answer != Yes {
					name, answer = n, Unknowable
				}
				continue
			}
			all, known := in.judged()
			if !known {
				in.needs.Text = true
				return n, 0, NotYet
			}
			decision := topic.Decide(all[at], confidence)
			if in.Message.Text == nil { // it is encrypted, or gone
				decision = topic.Doubtful
			}
			switch {
			case decision == topic.About:
				return n, all[at], Yes
			case decision == topic.Doubtful && answer != Unknowable || answer == No && all[at] >= likely:
				name, likely = n, all[at]
			}
			if decision == topic.Doubtful {
				answer = Unknowable
			}
		}
		return name, likely, answer
	}
	sentence := "about " + list(quoteAll(t.Is), "or")
	if t.Confidence != 0 {
		sentence += fmt.Sprintf(" (%d %% sure)", t.Confidence)
	}
	add(&test{place: place, sentence: sentence,
		answer: func(in *Input) Answer { _, _, answer := look(in); return answer },
		doubt:  func(in *Input) string { name, _, _ := look(in); return name },
		why: func(in *Input, answer Answer) string {
			name, likely, _ := look(in)
			found, _ := in.Topics.Find(name)
			about, said := in.said(name)
			switch {
			case said && about:
				return "a person said that it is about " + quote(name)
			case said && answer == No:
				return "a person said that it is not about " + quote(name)
			case answer == NotYet:
				return "the text has not been read yet"
			case found == nil:
				return "there is no topic " + quote(name)
			case !found.Ready():
				return "the topic " + quote(name) + " does not judge yet: " + found.Missing()
			case in.Message.Text == nil:
				return "the text cannot be read, so it is not known whether it is about " + quote(name)
			}
			evidence := topic.Of(in.Message)
			words := Evidence(found.Why(&evidence, 6))
			switch answer {
			case Yes:
				return fmt.Sprintf("it is about %s, %d %% likely%s", quote(name), hundred(likely), words)
			case No:
				return fmt.Sprintf("it is not about %s, %d %% likely%s", quote(name), hundred(likely), words)
			}
			return fmt.Sprintf("it is in doubt whether it is about %s: %d %% likely, and surely so from %d %%, surely not up "+
				"to %d %%%s", quote(name), hundred(likely), hundred(confidence), hundred(1-confidence), words)
		}})
}

func (in *Input) said(name string) (about, said bool) {
	if in.Said == nil {
		return false, false
	}
	return in.Said(name)
}

// hundred is a likelihood in percent; nothing learned is ever wholly certain.
func hundred(x float64) int { return min(99, max(1, int(math.Round(100*x)))) }

// Evidence says in words what spoke for a topic and what against it.
func Evidence(list []topic.Evidence) string {
	var yes, no []string
	for _, e := range list {
		switch {
		case utf8.RuneCountInString(e.Word) < 3: // it says little to a person
		case e.Weight > 0.005 && len(yes) < 4:
			yes = append(yes, quote(e.Word))
		case e.Weight < -0.005 && len(no) < 3:
			no = append(no, quote(e.Word))
		}
	}
	out := ""
	if len(yes) > 0 {
		out += "; for it: " + strings.Join(yes, ", ")
	}
	if len(no) > 0 {
		out += "; against it: " + strings.Join(no, ", ")
	}
	return out
}

// verified compiles a test on whether it is proven who sent a message.
func (c *compiler) verified(want bool, place string, add func(*test)) {
	sentence := "from a verified sender"
	if !want {
		sentence = "from a sender who is not verified"
	}
	add(&test{place: place, sentence: sentence,
		answer: func(in *Input) Answer { return in.proven(want) },
		why:    func(in *Input, _ Answer) string { return in.proof() }})
}

// proven says whether the sender is verified, or is not, as is wanted.
func (in *Input) proven(want bool) Answer {
	switch p := in.Message.Proof; {
	case p == nil:
		in.needs.Proof = true
		return NotYet
	case p.Unknown:
		return Unknowable
	default:
		return yes(p.Proven == want)
	}
}

func (in *Input) proof() string {
	switch p := in.Message.Proof; {
	case p == nil:
		return "whether the sender is verified was not looked into yet"
	case p.Unknown:
		return "Ink Tray cannot find out now whether the sender is verified: " + p.Text
	case p.Proven:
		return "the sender is verified: " + p.Text
	default:
		return "the sender is not verified: " + p.Text
	}
}

// foldText folds a long text; what fold does to a short one.
func foldText(s string) string {
	return cases.Fold().String(norm.NFKC.String(strings.Join(strings.Fields(s), " ")))
}
