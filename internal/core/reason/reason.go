// Package reason says why something was decided. A reason is a value: a code, what its sentence tells of, and the
// reasons in it. It is kept as such; its sentence, what a person can do about it and under which heading it waits all
// follow from the code, by one catalogue. Nothing is ever decided by the text of a sentence.
package reason

import (
	"encoding/json"
	"strings"
)

// Code names a reason, for programs.
type Code string

// Reason is why something is as it is. The zero value is none.
type Reason struct {
	Code Code     `json:"code"`
	With []string `json:"with,omitempty"` // what the sentence tells of, in the catalogue's order
	Of   []Reason `json:"of,omitempty"`   // the reasons in it
}

// IsZero says whether there is no reason.
func (r Reason) IsZero() bool { return r.Code == "" }

// String is the sentence, without a full stop; "" for none.
func (r Reason) String() string {
	if r.IsZero() {
		return ""
	}
	e, ok := catalogue[r.Code]
	if !ok { // of a later version
		return strings.Join(append([]string{string(r.Code)}, r.With...), ", ")
	}
	return r.fill(e, e.sentence)
}

// Advice is what a person can do about it, as sentences; "" where there is nothing to do.
func (r Reason) Advice() string {
	e := catalogue[r.Code]
	if e.advice == ofInner {
		for _, inner := range r.Of {
			if advice := inner.Advice(); advice != "" {
				return advice
			}
		}
		return ""
	}
	return r.fill(e, e.advice)
}

// Cause is the heading under which it waits in the tray; "" where it does not wait.
func (r Reason) Cause() Cause {
	e := catalogue[r.Code]
	if e.advice == ofInner && e.cause == "" {
		for _, inner := range r.Of {
			if cause := inner.Cause(); cause != "" {
				return cause
			}
		}
	}
	return e.cause
}

// Codes are its code and those of the reasons in it, from the outermost.
func (r Reason) Codes() (codes []string) {
	if r.IsZero() {
		return nil
	}
	codes = append(codes, string(r.Code))
	for _, inner := range r.Of {
		codes = append(codes, inner.Codes()...)
	}
	return codes
}

// UnmarshalJSON reads a reason as it is kept, or a sentence, as earlier versions handed it over.
func (r *Reason) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) == nil {
		*r = Decode(text)
		return nil
	}
	type plain Reason
	return json.Unmarshal(data, (*plain)(r))
}

func (r Reason) fill(e entry, text string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	var pairs []string
	for i, name := range e.names() {
		value := ""
		if i < len(r.With) {
			value = r.With[i]
		}
		pairs = append(pairs, "{"+name+"}", value)
	}
	if len(r.Of) > 0 {
		inner := make([]string, 0, len(r.Of))
		for _, one := range r.Of {
			if s := one.String(); s != "" {
				inner = append(inner, s)
			}
		}
		pairs = append(pairs, "{of}", strings.Join(inner, "; "))
	}
	return strings.NewReplacer(pairs...).Replace(text)
}

// Encode is how a reason is kept: JSON, or nothing for none.
func (r Reason) Encode() string {
	if r.IsZero() {
		return ""
	}
	data, err := json.Marshal(r)
	if err != nil { // it holds nothing but text
		return r.String()
	}
	return string(data)
}

// Decode reads what Encode made. Text that is none of it is taken as a sentence, as earlier versions kept it.
func Decode(text string) (r Reason) {
	if text == "" {
		return Reason{}
	}
	if text[0] != '{' || json.Unmarshal([]byte(text), &r) != nil || r.Code == "" {
		return Said(text, "")
	}
	return r
}

// And joins reasons that hold together; none is left out.
func And(reasons ...Reason) Reason {
	var all []Reason
	for _, r := range reasons {
		if !r.IsZero() {
			all = append(all, r)
		}
	}
	switch len(all) {
	case 0:
		return Reason{}
	case 1:
		return all[0]
	}
	return Reason{Code: "all of these", Of: all}
}
