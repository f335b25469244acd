package api

import (
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"diorthos/client"
	"diorthos/core/action"
	"diorthos/core/boot"
	"diorthos/core/climb"
	"diorthos/core/firmware"
	"diorthos/core/knowledge"
	"diorthos/core/layout"
	"diorthos/core/readiness"
	"diorthos/core/reading"
	"diorthos/core/system"
)

// vocabulary lists the words of each type of which there is a fixed number. The
// document, and with it the console, takes them from here.
var vocabulary = map[reflect.Type][]any{
	reflect.TypeFor[client.CaseState]():       words(client.CaseStates()),
	reflect.TypeFor[client.ClimbState]():      words(client.ClimbStates()),
	reflect.TypeFor[client.OrderState]():      words(client.OrderStates()),
	reflect.TypeFor[client.Role]():            words(client.Roles()),
	reflect.TypeFor[client.AuditOutcome]():    words(client.AuditOutcomes()),
	reflect.TypeFor[climb.Outcome]():          words(climb.Outcomes()),
	reflect.TypeFor[reading.Outcome]():        words(reading.Outcomes()),
	reflect.TypeFor[system.TrialOutcome]():    words(system.TrialOutcomes()),
	reflect.TypeFor[reading.AttemptKind]():    words(append(reading.AttemptKinds(), "")),
	reflect.TypeFor[firmware.Mode]():          words(firmware.Modes()),
	reflect.TypeFor[layout.Role]():            words(layout.Roles()),
	reflect.TypeFor[layout.CopyState]():       words(layout.CopyStates()),
	reflect.TypeFor[layout.Style]():           words(layout.Styles()),
	reflect.TypeFor[layout.Severity]():        words(layout.Severities()),
	reflect.TypeFor[layout.ProblemID]():       words(layout.ProblemIDs()),
	reflect.TypeFor[action.ID]():              words(action.IDs()),
	reflect.TypeFor[boot.Fault]():             words(boot.Faults()),
	reflect.TypeFor[readiness.Rating]():       words(readiness.Ratings()),
	reflect.TypeFor[knowledge.Invasiveness](): words(knowledge.Degrees()),
}

func words[T ~string](list []T) []any {
	out := make([]any, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

// declareEnums gives the fields of these types their words.
func declareEnums(doc *huma.OpenAPI) {
	for name, schema := range doc.Components.Schemas.Map() {
		t := doc.Components.Schemas.TypeFromRef("#/components/schemas/" + name)
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t == nil || t.Kind() != reflect.Struct {
			continue
		}
		for _, f := range reflect.VisibleFields(t) {
			tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if property := schema.Properties[tag]; property != nil && !f.Anonymous {
				declare(property, f.Type)
			}
		}
		schema.PrecomputeMessages()
	}
}

func declare(schema *huma.Schema, t reflect.Type) {
	if list, ok := vocabulary[t]; ok {
		schema.Enum = list
		schema.PrecomputeMessages()
		return
	}
	switch t.Kind() {
	case reflect.Pointer:
		declare(schema, t.Elem())
	case reflect.Slice:
		if schema.Items != nil {
			declare(schema.Items, t.Elem())
		}
	case reflect.Map:
		if values, ok := schema.AdditionalProperties.(*huma.Schema); ok {
			declare(values, t.Elem())
		}
	}
}
