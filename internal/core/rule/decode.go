package rule

import (
	"bytes"
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"inktray.example/inktray/internal/core/pattern"
)

// Problem is one mistake in a document.
type Problem struct {
	Place  string `json:"place"`            // "rules[0].match.all[1].subject"
	Line   int    `json:"line,omitempty"`   // in the text, from 1
	Column int    `json:"column,omitempty"` // in the text, from 1
	Text   string `json:"text"`             // a sentence
	Meant  string `json:"meant,omitempty"`  // what was probably meant
	At     int    `json:"at,omitempty"`     // column within a pattern, from 1
}

func (p Problem) String() string {
	s := p.Text
	if p.Place != "" {
		s = p.Place + ": " + s
	}
	if p.Line > 0 {
		s = fmt.Sprintf("line %d: %s", p.Line, s)
	}
	return s
}

// Problems are all mistakes of a document, as an error.
type Problems []Problem

func (p Problems) Error() string {
	var lines []string
	for _, one := range p {
		lines = append(lines, one.String())
	}
	return strings.Join(lines, "\n")
}

// maxDocument bounds a document, in octets.
const maxDocument = 4 << 20

// Parse reads a document of rules in YAML or JSON. The error, if any, is Problems.
func Parse(data []byte) (*Document, error) {
	d := &decoder{}
	var doc Document
	d.document(data, &doc)
	if len(d.problems) == 0 && doc.Format != Format {
		d.problems = append(d.problems, Problem{Place: "format", Text: fmt.Sprintf("the document has format %d; this "+
			"version reads format %d", doc.Format, Format)})
	}
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	return &doc, nil
}

// ParseRule reads one rule in YAML or JSON. The error, if any, is Problems.
func ParseRule(data []byte) (*Rule, error) {
	d := &decoder{}
	var r Rule
	d.document(data, &r)
	if len(d.problems) > 0 {
		return nil, d.problems
	}
	return &r, nil
}

// Decode reads any value whose types carry this package's tags, for documents
// that hold rules beside other things. The error, if any, is Problems.
func Decode(data []byte, into any) error {
	d := &decoder{}
	d.document(data, into)
	if len(d.problems) > 0 {
		return d.problems
	}
	return nil
}

// YAML writes a value of this package as people read it.
func YAML(v any) ([]byte, error) {
	data, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var node yaml.Node // JSON is YAML; the order of its keys is kept
	if err := yaml.Unmarshal(data, &node); err != nil {
		return nil, err
	}
	restyle(&node)
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	err = e.Encode(&node)
	return out.Bytes(), err
}

// restyle takes JSON's quotes and brackets off, keeping short lists on a line.
func restyle(n *yaml.Node) {
	if n.Kind == yaml.ScalarNode && n.Tag == "!!str" {
		n.Style = 0
		return
	}
	n.Style = 0
	flat := n.Kind == yaml.SequenceNode
	for _, c := range n.Content {
		flat = flat && c.Kind == yaml.ScalarNode
		restyle(c)
	}
	if flat && len(n.Content) == 1 { // one entry needs no list
		*n = *n.Content[0]
		return
	}
	if flat {
		n.Style = yaml.FlowStyle
	}
}

// jsonAsYAML rewrites what JSON allows (RFC 8259 sections 2 and 7) and YAML does not: tabs
// between the tokens, characters beyond U+FFFF as two escapes, and characters that YAML
// wants escaped. Lines stay as they are.
func jsonAsYAML(data []byte) []byte {
	out := make([]byte, 0, len(data))
	inside := false
	for i := 0; i < len(data); {
		c, size := utf8.DecodeRune(data[i:])
		switch {
		case !inside:
			if c == '\t' {
				c = ' '
			}
			inside = c == '"'
			out = utf8.AppendRune(out, c)
		case c == '"':
			inside = false
			out = append(out, '"')
		case c == '\\' && data[i+1] == 'u':
			first := escaped(data[i:])
			size = 6
			if utf16.IsSurrogate(first) {
				whole := utf8.RuneError
				if i+12 <= len(data) && data[i+6] == '\\' && data[i+7] == 'u' {
					if whole = utf16.DecodeRune(first, escaped(data[i+6:])); whole != utf8.RuneError {
						size = 12
					}
				}
				out = utf8.AppendRune(out, whole)
				break
			}
			out = append(out, data[i:i+6]...)
		case c == '\\':
			size = 2
			out = append(out, data[i:i+2]...)
		case c >= 0x7F && c < 0xA0 || c == 0x2028 || c == 0x2029 || c == 0xFEFF || c == 0xFFFE || c == 0xFFFF:
			out = fmt.Appendf(out, "\\u%04x", c)
		default:
			out = append(out, data[i:i+size]...)
		}
		i += size
	}
	return out
}

// escaped is the character of an escape such as \u00e9, which JSON has checked.
func escaped(data []byte) rune {
	n, _ := strconv.ParseUint(string(data[2:6]), 16, 16)
	return rune(n)
}

type decoder struct{ problems Problems }

func (d *decoder) fail(n *yaml.Node, place, meant, format string, args ...any) {
	d.problems = append(d.problems,
		Problem{Place: place, Line: n.Line, Column: n.Column, Text: fmt.Sprintf(format, args...), Meant: meant})
}

func (d *decoder) document(data []byte, into any) {
	if len(data) > maxDocument {
		d.problems = append(d.problems, Problem{Text: "the document is larger than 4 MB"})
		return
	}
	if json.Valid(data) {
		data = jsonAsYAML(data)
	}
	var node yaml.Node
	if err := yaml.Unmarshal(data, &node); err != nil {
		text := strings.TrimPrefix(err.Error(), "yaml: ")
		p := Problem{Text: "the document cannot be read: " + text}
		if _, rest, ok := strings.Cut(text, "line "); ok {
			number, after, _ := strings.Cut(rest, ":")
			p.Line, _ = strconv.Atoi(number)
			p.Text = "the document cannot be read:" + after
		}
		d.problems = append(d.problems, p)
		return
	}
	if len(node.Content) == 0 {
		d.problems = append(d.problems, Problem{Text: "the document is empty"})
		return
	}
	d.value(node.Content[0], reflect.ValueOf(into).Elem(), "")
}

// value reads a node into v. Numbers and dates are taken as written wherever
// text is wanted.
func (d *decoder) value(n *yaml.Node, v reflect.Value, place string) {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		d.fail(n, place, "", "anchors and aliases are not part of this document; write it out")
		return
	}
	switch into := v.Addr().Interface().(type) {
	case *Match:
		if n.Kind == yaml.ScalarNode {
			into.Every = n.Value == everyMessage
			if !into.Every {
				d.fail(n, place, everyMessage, "%q is not a condition; write conditions, or the words: every message", n.Value)
			}
			return
		}
		d.value(n, reflect.ValueOf(&into.Condition).Elem(), place)
		if len(n.Content) == 0 {
			d.fail(n, place, everyMessage, "there is no condition; if the rule is for all messages, write: every message")
		}
		return
	case *Take:
		if n.Kind == yaml.ScalarNode {
			into.Everything = n.Value == "everything"
			if !into.Everything {
				d.fail(n, place, "everything", "%q is not a list of attachments; write tests, or the word: everything", n.Value)
			}
			return
		}
		d.value(n, reflect.ValueOf(&into.Any).Elem(), place)
		return
	case *Rest:
		if n.Kind == yaml.ScalarNode {
			into.Leave = n.Value == "leave"
			if !into.Leave {
				d.fail(n, place, "leave", "%q is not a place; write a folder, or the word: leave", n.Value)
			}
			return
		}
		d.object(n, v, place)
		return
	case encoding.TextUnmarshaler:
		if d.scalar(n, place) {
			if err := into.UnmarshalText([]byte(n.Value)); err != nil {
				d.fail(n, place, "", "%q is not understood: %v", n.Value, err)
			}
		}
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		d.value(n, v.Elem(), place)
	case reflect.Struct:
		d.object(n, v, place)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode { // one entry needs no list
			v.Set(reflect.MakeSlice(v.Type(), 1, 1))
			d.value(n, v.Index(0), place)
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content)))
		for i, c := range n.Content {
			d.value(c, v.Index(i), fmt.Sprintf("%s[%d]", place, i))
		}
	case reflect.String:
		if !d.scalar(n, place) {
			return
		}
		v.SetString(n.Value)
		if w, ok := v.Interface().(word); ok && !slices.Contains(w.choices(), n.Value) {
			d.fail(n, place, pattern.Nearest(n.Value, w.choices()), "%q is not known here; one of: %s", n.Value,
				strings.Join(w.choices(), ", "))
		}
		if v.Type() == reflect.TypeFor[string]() && n.Value == "" {
			d.fail(n, place, "", "the text is empty")
		}
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if n.Kind != yaml.ScalarNode || err != nil || i < 0 {
			d.fail(n, place, "", "this must be a whole number")
			return
		}
		v.SetInt(int64(i))
	case reflect.Bool:
		if n.Kind != yaml.ScalarNode || n.Value != "true" && n.Value != "false" {
			d.fail(n, place, "", "this must be true or false")
			return
		}
		v.SetBool(n.Value == "true")
	default:
		panic("rule: no way to read a " + v.Type().String())
	}
}

func (d *decoder) scalar(n *yaml.Node, place string) bool {
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		d.fail(n, place, "", "this must be a text")
		return false
	}
	return true
}

// object reads a map into a struct by the keys of its tags.
func (d *decoder) object(n *yaml.Node, v reflect.Value, place string) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, place, "", "this must be a map of keys and values: %s", strings.Join(keysOf(v.Type()), ", "))
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i].Value
		at := key
		if place != "" {
			at = place + "." + key
		}
		field, ok := fieldFor(v.Type(), key)
		switch {
		case !ok:
			d.fail(n.Content[i], at, pattern.Nearest(key, keysOf(v.Type())), "there is no key %q here; one of: %s", key,
				strings.Join(keysOf(v.Type()), ", "))
		case seen[field.Name]:
			d.fail(n.Content[i], at, "", "the key %q stands here twice", key)
		default:
			seen[field.Name] = true
			d.value(n.Content[i+1], v.FieldByIndex(field.Index), at)
		}
	}
	for _, f := range fieldsOf(v.Type()) {
		if name, optional := tagOf(f); name != "" && !optional && !seen[f.Name] {
			d.fail(n, place, "", "the key %q is missing", name)
		}
	}
}

// visible are the fields of types that were looked at: to find them out costs more than to read a rule.
var visible sync.Map

func fieldsOf(t reflect.Type) []reflect.StructField {
	if f, ok := visible.Load(t); ok {
		return f.([]reflect.StructField)
	}
	f, _ := visible.LoadOrStore(t, reflect.VisibleFields(t))
	return f.([]reflect.StructField)
}

// tagOf is the key of a field and whether it may be left out.
func tagOf(f reflect.StructField) (name string, optional bool) {
	name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
	if name == "-" {
		return "", true
	}
	return name, strings.HasPrefix(options, "omit")
}

func fieldFor(t reflect.Type, key string) (reflect.StructField, bool) {
	for _, f := range fieldsOf(t) {
		if name, _ := tagOf(f); name == key && name != "" || f.Tag.Get("alias") == key && key != "" {
			return f, true
		}
	}
	return reflect.StructField{}, false
}

func keysOf(t reflect.Type) []string {
	var keys []string
	for _, f := range fieldsOf(t) {
		if name, _ := tagOf(f); name != "" {
			keys = append(keys, name)
		}
	}
	return keys
}
