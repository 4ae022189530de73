package sheet

import (
	"errors"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// decode reads a part of the document into a value; what does not fit is a problem
// that says what stands there and what may.
func (r *reading) decode(step string, node ast.Node, into any) {
	err := yaml.NodeToValue(node, into, yaml.Strict())
	var unknown *yaml.UnknownFieldError
	var wrongNode *yaml.UnexpectedNodeTypeError
	var wrongType *yaml.TypeError
	switch {
	case err == nil:
	case errors.As(err, &unknown):
		r.unknownSetting(step, node, reflect.TypeOf(into), unknown)
	case errors.As(err, &wrongNode):
		r.problemAt(step, wrongNode.Token, "%s stands where %s is expected", nodeWords(wrongNode.Actual), nodeWords(wrongNode.Expected))
	case errors.As(err, &wrongType):
		r.problemAt(step, wrongType.Token, "%s is expected here, not %q", typeWords(wrongType.DstType), wrongType.Token.Value)
	default:
		r.yamlError(step, err)
	}
}

// unknownSetting says which settings there are where an unknown one stands.
func (r *reading) unknownSetting(step string, node ast.Node, t reflect.Type, unknown *yaml.UnknownFieldError) {
	name := unknown.Token.Value
	settings := settingsBeside(node, name, t)
	switch near := didYouMean(name, settings); {
	case near != "":
		r.problemAt(step, unknown.Token, "there is no setting %q here%s", name, near)
	case len(settings) > 0:
		r.problemAt(step, unknown.Token, "there is no setting %q here; there are %s", name, strings.Join(settings, ", "))
	default:
		r.problemAt(step, unknown.Token, "there is no setting %q here", name)
	}
}

// settingsBeside lists the settings of the mapping in which an unknown one stands:
// of the types that t is made of, those of the one that has most of the mapping's
// other keys.
func settingsBeside(node ast.Node, name string, t reflect.Type) []string {
	var beside []string
	ast.Walk(visitor(func(n ast.Node) {
		list, ok := entries(n)
		if !ok || len(list) <= len(beside) || !slices.ContainsFunc(list, func(e *ast.MappingValueNode) bool { return keyOf(e) == name }) {
			return
		}
		beside = beside[:0]
		for _, e := range list {
			if key := keyOf(e); key != name {
				beside = append(beside, key)
			}
		}
	}), node)
	var best []string
	most := -1
	for _, settings := range settingsIn(t, map[reflect.Type]bool{}) {
		has := 0
		for _, key := range beside {
			if slices.Contains(settings, key) {
				has++
			}
		}
		if has > most {
			best, most = settings, has
		}
	}
	return best
}

type visitor func(ast.Node)

func (v visitor) Visit(n ast.Node) ast.Visitor {
	v(n)
	return v
}

// settingsIn lists the names of the settings of each struct that a type is made of,
// the outer ones first.
func settingsIn(t reflect.Type, seen map[reflect.Type]bool) [][]string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || seen[t] {
		return nil
	}
	seen[t] = true
	var own []string
	var inner [][]string
	for f := range fields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		own = append(own, name)
		inner = append(inner, settingsIn(f.Type, seen)...)
	}
	if len(own) == 0 {
		return inner
	}
	return append([][]string{own}, inner...)
}

// fields gives the fields of a struct and of those it embeds.
func fields(t reflect.Type) func(yield func(reflect.StructField) bool) {
	return func(yield func(reflect.StructField) bool) {
		for _, f := range reflect.VisibleFields(t) {
			if f.IsExported() && !f.Anonymous && !yield(f) {
				return
			}
		}
	}
}

func nodeWords(t ast.NodeType) string {
	switch t {
	case ast.MappingType, ast.MappingValueType:
		return "a group of settings (name: value)"
	case ast.SequenceType:
		return "a list"
	case ast.IntegerType, ast.FloatType:
		return "a number"
	case ast.BoolType:
		return "true or false"
	case ast.NullType:
		return "nothing"
	}
	return "a text"
}

func typeWords(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int64:
		return "a whole number"
	case reflect.Float64:
		return "a number"
	case reflect.Slice:
		return "a list"
	case reflect.Struct, reflect.Map:
		return "a group of settings (name: value)"
	case reflect.Pointer:
		return typeWords(t.Elem())
	}
	return "a text"
}
