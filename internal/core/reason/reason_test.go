package reason

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

func TestAReasonIsKeptWithAllThatItTells(t *testing.T) {
	for _, r := range []Reason{
		{},
		Said("a {text} with \"quotes\"", "Do {this}."),
		MailboxFails("the server closed the connection", "12"),
		TooMany("60", And(Encrypted("a zip"), Remark("it is in a letter"))),
		Replanned(Topic("berth requests", "it is in doubt")),
	} {
		got := Decode(r.Encode())
		if !reflect.DeepEqual(got, r) {
			t.Errorf("%+v was kept as %s and read as %+v", r, r.Encode(), got)
		}
	}
	var handed Reason // as an earlier version wrote it into the file of a mailbox
	if err := json.Unmarshal([]byte(`"it is locked"`), &handed); err != nil || handed.String() != "it is locked" {
		t.Errorf("%+v, %v", handed, err)
	}
	if r := Decode("a sentence of an earlier version"); r.String() != "a sentence of an earlier version" ||
		r.Advice() != "" || r.Cause() != "" {
		t.Errorf("%+v", r)
	}
	if r := Decode(`{"code":"of a later version","with":["a","b"]}`); r.String() != "of a later version, a, b" {
		t.Errorf("%q", r)
	}
}

func TestWhatFollowsFromAReason(t *testing.T) {
	for _, c := range []struct {
		reason           Reason
		sentence, advice string
		cause            Cause
	}{
		{Reason{}, "", "", ""},
		{NoCabinet("plans"), "there is no cabinet called “plans”", choose, "setting"},
		{Said("{advice}", "x"), "{advice}", "x", ""}, // what it tells of is no pattern
		{And(Conditions("the name ends in .pdf"), Reason{}, Remark("from a letter")),
			"the name ends in .pdf; from a letter", "", ""},
		{And(Reason{}, Released()), "released by a person", "", ""},
		{And(), "", "", ""},
		{NotWritten(Virus("a worm")), "the virus scanner found a worm. Nothing was written", isMeant, "virus"},
		{Replanned(Encrypted("it has a password")), "tried again under the rule as it is now: it has a password", decide,
			"encrypted"},
		{Replanned(Conditions("it is from nobody")), "tried again under the rule as it is now: it is from nobody", "", ""},
		{WaitsInTray(Encrypted("it has a password")), "waits in the tray already: it has a password", "", ""},
	} {
		if c.reason.String() != c.sentence || c.reason.Advice() != c.advice || c.reason.Cause() != c.cause {
			t.Errorf("%+v: %q, %q, %q", c.reason, c.reason, c.reason.Advice(), c.reason.Cause())
		}
	}
	if got := NotWritten(And(Virus("a worm"), Released())).Codes(); !slices.Equal(got,
		[]string{"not written", "all of these", "virus", "released"}) || (Reason{}).Codes() != nil {
		t.Errorf("%q", got)
	}
}

// made is a call that makes a reason, as the source has it.
type made struct {
	name, code string
	with       []string
	inner      bool
}

func constructors(t *testing.T) (all []made) {
	t.Helper()
	for _, name := range []string{"reasons.go", "reason.go"} {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				lit, ok := n.(*ast.CompositeLit)
				if !ok || len(lit.Elts) == 0 {
					return true
				}
				m := made{name: f.Name.Name}
				for _, e := range lit.Elts {
					kv, ok := e.(*ast.KeyValueExpr)
					if !ok {
						return true
					}
					switch kv.Key.(*ast.Ident).Name {
					case "Code":
						m.code, _ = strconv.Unquote(kv.Value.(*ast.BasicLit).Value)
					case "With":
						for _, p := range kv.Value.(*ast.CompositeLit).Elts {
							m.with = append(m.with, p.(*ast.Ident).Name)
						}
					case "Of":
						m.inner = true
					}
				}
				all = append(all, m)
				return false
			})
		}
	}
	return all
}

func TestEveryReasonIsInTheCatalogueWithWhatItTells(t *testing.T) {
	unused := map[Code]bool{}
	for code := range catalogue {
		unused[code] = true
	}
	for _, m := range constructors(t) {
		e, ok := catalogue[Code(m.code)]
		if !ok {
			t.Errorf("%s: there is no %q in the catalogue", m.name, m.code)
			continue
		}
		if !slices.Equal(e.names(), m.with) && len(e.names())+len(m.with) > 0 {
			t.Errorf("%s tells of %v, the catalogue of %v", m.name, m.with, e.names())
		}
		if m.inner != strings.Contains(e.sentence, "{of}") {
			t.Errorf("%s has reasons in it: %v, and its sentence is %q", m.name, m.inner, e.sentence)
		}
		delete(unused, Code(m.code))
	}
	if len(unused) > 0 {
		t.Errorf("nothing makes %v", unused)
	}
}

func TestSentencesAndAdviceReadAsTheyShould(t *testing.T) {
	braces := regexp.MustCompile(`\{(\w+)\}`)
	for code, e := range catalogue {
		for _, text := range []string{e.sentence, e.advice} {
			for _, found := range braces.FindAllStringSubmatch(text, -1) {
				if found[1] != "of" && !slices.Contains(e.names(), found[1]) {
					t.Errorf("%q tells of no %s: %s", code, found[1], text)
				}
			}
		}
		if e.sentence == "" || strings.HasSuffix(e.sentence, ".") {
			t.Errorf("%q has the sentence %q", code, e.sentence)
		}
		if e.advice != "" && e.advice != ofInner && e.advice != "{advice}" &&
			(!strings.HasSuffix(e.advice, ".") || strings.ToUpper(e.advice[:1]) != e.advice[:1]) {
			t.Errorf("%q has the advice %q", code, e.advice)
		}
		if e.cause != "" && e.advice == "" {
			t.Errorf("%q waits in the tray without advice", code)
		}
	}
}
