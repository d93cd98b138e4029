package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/texts"
)

// saying says where a JSON value holds texts of Ink Tray itself. openapi.yaml marks them by x-said. Everything else,
// such as rules, messages and what people wrote, is the same in every language: it can be read and written back.
type saying struct {
	here  bool               // the value is a text, or a list of texts
	items *saying            // in each value of a list
	props map[string]*saying // in the properties of an object
	every *saying            // in each property of an object whose names openapi.yaml does not say
}

// sayings finds the texts in the answers of all operations, by operation and status.
func sayings(spec *openapi3.T) map[string]*saying {
	found := map[string]*saying{}
	known := map[*openapi3.Schema]*saying{}
	for _, item := range spec.Paths.Map() {
		for _, operation := range item.Operations() {
			for status, response := range operation.Responses.Map() {
				content := response.Value.Content.Get("application/json")
				if content != nil && content.Schema != nil {
					found[operation.OperationID+" "+status] = sayingOf(content.Schema, known)
				}
			}
		}
	}
	found[""] = sayingOf(spec.Components.Schemas["Problem"], known)
	return found
}

func sayingOf(ref *openapi3.SchemaRef, known map[*openapi3.Schema]*saying) *saying {
	if ref == nil || ref.Value == nil {
		return nil
	}
	schema := ref.Value
	if s, ok := known[schema]; ok {
		return s
	}
	s := &saying{props: map[string]*saying{}}
	known[schema] = s // a schema can hold itself
	s.here, _ = schema.Extensions["x-said"].(bool)
	s.items = sayingOf(schema.Items, known)
	s.every = sayingOf(schema.AdditionalProperties.Schema, known)
	for name, property := range schema.Properties {
		s.props[name] = sayingOf(property, known)
	}
	for _, parts := range []openapi3.SchemaRefs{schema.AllOf, schema.OneOf, schema.AnyOf} {
		for _, part := range parts {
			one := sayingOf(part, known)
			s.here = s.here || one.here
			for name, property := range one.props {
				s.props[name] = property
			}
		}
	}
	return s
}

// say puts the texts of a value into a language.
func (s *saying) say(in *texts.Catalogue, value any) any {
	if s == nil {
		return value
	}
	switch v := value.(type) {
	case string:
		if s.here {
			return in.Say(v)
		}
	case []any:
		each := s.items
		if s.here {
			each = &saying{here: true}
		}
		for i := range v {
			v[i] = each.say(in, v[i])
		}
	case map[string]any:
		for name, one := range v {
			if of := s.props[name]; of != nil {
				v[name] = of.say(in, one)
			} else {
				v[name] = s.every.say(in, one)
			}
		}
	}
	return value
}

// inLanguage gives the texts of an answer in the language that the request asks for with Accept-Language (RFC 9110
// section 12.5.4). Without that field, and where there is no such language, they stay in English.
func (s *Server) inLanguage(c fiber.Ctx) error {
	if wrong := c.Next(); wrong != nil {
		if err := s.problem(c, wrong); err != nil {
			return err
		}
	}
	catalogue := texts.For(c.Get(fiber.HeaderAcceptLanguage))
	if catalogue == nil || c.Response().IsBodyStream() {
		return nil
	}
	operation := ""
	switch kind, _, _ := strings.Cut(string(c.Response().Header.ContentType()), ";"); {
	case kind == "application/json" && decisionOf(c.Context()) != nil:
		operation = fmt.Sprint(decisionOf(c.Context()).operation, " ", c.Response().StatusCode())
	case kind != "application/problem+json":
		return nil
	}
	said := s.sayings[operation]
	if said == nil {
		return nil
	}
	var answer any
	reading := json.NewDecoder(bytes.NewReader(c.Response().Body()))
	reading.UseNumber() // every digit stays
	if reading.Decode(&answer) != nil {
		return nil // it is as it was
	}
	var out bytes.Buffer
	writing := json.NewEncoder(&out)
	writing.SetEscapeHTML(false)
	if err := writing.Encode(said.say(catalogue, answer)); err != nil {
		return err
	}
	c.Response().SetBody(out.Bytes())
	c.Vary(fiber.HeaderAcceptLanguage)
	return nil
}
