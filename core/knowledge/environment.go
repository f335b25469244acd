package knowledge

import (
	"cmp"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"

	"diorthos/core/bag"
	"diorthos/core/units"
)

// An environment is what expressions may use: the facts, the element "it", the
// limits, and size_text(), which writes a size in bytes. The facts are declared
// field by field, so that a name that they do not have is an error.
type environment struct {
	cel   *cel.Env
	types *factTypes
}

func newEnvironment() (*environment, error) {
	t, err := newFactTypes()
	if err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
	env, err := cel.NewEnv(
		cel.CustomTypeProvider(t),
		cel.Variable("facts", t.of(reflect.TypeFor[bag.Facts]())),
		cel.Variable("limits", cel.MapType(cel.StringType, cel.IntType)),
		ext.Lists(),
		ext.Strings(),
		cel.Function(
			"size_text", cel.Overload("size_of_dyn", []*cel.Type{cel.DynType}, cel.StringType, cel.UnaryBinding(sizeText)),
		),
	)
	if err != nil {
		return nil, fmt.Errorf("knowledge: %w", err)
	}
	return &environment{env, t}, nil
}

func sizeText(v ref.Val) ref.Val {
	if n, ok := v.Value().(int64); ok {
		return types.String(units.FormatBytes(n))
	}
	return types.NewErr("size_text() wants a whole number, got %T", v.Value())
}

// program compiles an expression that gives want.
func (e *environment) program(text string, want *cel.Type) (cel.Program, error) {
	p, _, err := e.compile(e.cel, text, want)
	return p, err
}

// over is the environment in which "it" is an element of what a list gives.
func (e *environment) over(list *cel.Type) (*cel.Env, error) {
	element := cel.DynType
	if list.Kind() == types.ListKind && len(list.Parameters()) == 1 {
		element = list.Parameters()[0]
	}
	return e.cel.Extend(cel.Variable("it", element))
}

func (e *environment) compile(env *cel.Env, text string, want *cel.Type) (cel.Program, *cel.Type, error) {
	tree, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, nil, e.explain(text, issues)
	}
	got := tree.OutputType()
	fits := want.IsExactType(cel.DynType) || got.IsExactType(cel.DynType) || got.IsAssignableType(want)
	if !fits && !(want.Kind() == types.ListKind && got.Kind() == types.ListKind) {
		return nil, nil, fmt.Errorf("%q gives %s, want %s", text, got, want)
	}
	p, err := env.Program(tree, cel.CostLimit(1_000_000))
	return p, got, err
}

var undefinedField = regexp.MustCompile(`undefined field '([^']+)'`)

// explain puts into one line what is wrong with an expression. A field that the
// facts do not have comes with the name that it was perhaps meant to be.
func (e *environment) explain(text string, issues *cel.Issues) error {
	var list []string
	for _, issue := range issues.Errors() {
		message := issue.Message
		if m := undefinedField.FindStringSubmatch(message); m != nil {
			message = fmt.Sprintf("the facts have no field %q here: is %q meant?", m[1], e.types.nearest(m[1]))
		}
		list = append(list, fmt.Sprintf("at letter %d: %s", issue.Location.Column()+1, message))
	}
	return &expressionError{text, strings.Join(list, "; ")}
}

// An expressionError is of an expression that does not compile.
type expressionError struct{ text, problem string }

func (e *expressionError) Error() string { return fmt.Sprintf("%q: %s", e.text, e.problem) }

// eval evaluates a program over the facts. An error means that the facts lack
// what is asked about.
func eval(p cel.Program, facts map[string]any, it any, l Limits) (ref.Val, error) {
	out, _, err := p.Eval(map[string]any{"facts": facts, "it": it, "limits": l.asMap()})
	return out, err
}

// factTypes tells the compiler which fields the facts have, by the structs that
// hold them.
type factTypes struct {
	types.Provider
	structs map[string]map[string]*types.Type // by the name of the type, by the field's name in JSON
}

// prefix sets the types of the facts apart from those of the language.
const prefix = "facts."

func newFactTypes() (*factTypes, error) {
	registry, err := types.NewRegistry()
	if err != nil {
		return nil, err
	}
	return &factTypes{registry, map[string]map[string]*types.Type{}}, nil
}

// of is the type of the language for a Go type.
func (f *factTypes) of(t reflect.Type) *types.Type {
	switch t.Kind() {
	case reflect.Pointer:
		return f.of(t.Elem())
	case reflect.String:
		return types.StringType
	case reflect.Bool:
		return types.BoolType
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64,
		reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return types.IntType // JSON knows whole numbers only
	case reflect.Float32, reflect.Float64:
		return types.DoubleType
	case reflect.Slice, reflect.Array:
		return types.NewListType(f.of(t.Elem()))
	case reflect.Map:
		return types.NewMapType(types.StringType, f.of(t.Elem()))
	case reflect.Struct:
		if t == reflect.TypeFor[time.Time]() {
			return types.StringType // as JSON writes it
		}
		return f.structOf(t)
	}
	return types.DynType
}

func (f *factTypes) structOf(t reflect.Type) *types.Type {
	name := prefix + t.String()
	if f.structs[name] == nil {
		f.structs[name] = map[string]*types.Type{}
		f.fields(name, t)
	}
	return types.NewObjectType(name)
}

func (f *factTypes) fields(name string, t reflect.Type) {
	for i := range t.NumField() {
		field := t.Field(i)
		tag, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		switch {
		case field.Anonymous && tag == "":
			f.fields(name, field.Type)
		case field.IsExported() && tag != "" && tag != "-":
			f.structs[name][tag] = f.of(field.Type)
		}
	}
}

// FindStructType finds a type of the facts.
func (f *factTypes) FindStructType(name string) (*types.Type, bool) {
	if f.structs[name] != nil {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return f.Provider.FindStructType(name)
}

// FindStructFieldNames lists the fields of a type of the facts.
func (f *factTypes) FindStructFieldNames(name string) ([]string, bool) {
	fields, ok := f.structs[name]
	if !ok {
		return f.Provider.FindStructFieldNames(name)
	}
	var list []string
	for n := range fields {
		list = append(list, n)
	}
	slices.Sort(list)
	return list, true
}

// FindStructFieldType finds one field. The values are maps, so that no way to
// get at it needs to be told.
func (f *factTypes) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	fields, ok := f.structs[name]
	if !ok {
		return f.Provider.FindStructFieldType(name, field)
	}
	t, ok := fields[field]
	if !ok {
		return nil, false
	}
	return &types.FieldType{Type: t}, true
}

// nearest is the field of the facts whose name is most like one.
func (f *factTypes) nearest(name string) string {
	all := map[string]bool{}
	for _, fields := range f.structs {
		for n := range fields {
			all[n] = true
		}
	}
	var list []string
	for n := range all {
		list = append(list, n)
	}
	return slices.MinFunc(list, func(a, b string) int {
		return cmp.Or(cmp.Compare(edits(name, a), edits(name, b)), strings.Compare(a, b))
	})
}

// edits is how many letters have to be put in, taken out or changed to make b of
// a, whatever their case.
func edits(a, b string) int {
	x, y := []rune(strings.ToLower(a)), []rune(strings.ToLower(b))
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i, r := range x {
		diagonal := row[0]
		row[0] = i + 1
		for j, s := range y {
			change := diagonal
			if r != s {
				change++
			}
			diagonal = row[j+1]
			row[j+1] = min(change, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(y)]
}
