package sheet

import (
	"errors"
	"reflect"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"
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
	settings := settingsBeside(node, unknown.Token, t)
	switch near := didYouMean(name, settings); {
	case near != "":
		r.problemAt(step, unknown.Token, "there is no setting %q here%s", name, near)
	case len(settings) > 0:
		r.problemAt(step, unknown.Token, "there is no setting %q here; there are %s", name, strings.Join(settings, ", "))
	default:
		r.problemAt(step, unknown.Token, "there is no setting %q here", name)
	}
}

// settingsBeside lists the settings that may stand where the key of a token does: it
// follows the keys above it through the type.
func settingsBeside(node ast.Node, at *token.Token, t reflect.Type) []string {
	path, ok := keysAbove(node, at)
	if !ok {
		return nil
	}
	for _, key := range path {
		if t = settingType(plainType(t), key); t == nil {
			return nil
		}
	}
	if t = plainType(t); t.Kind() != reflect.Struct {
		return nil
	}
	var out []string
	for f := range fields(t) {
		if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); name != "" && name != "-" {
			out = append(out, name)
		}
	}
	return out
}

// keysAbove gives the keys of the mappings that lead to the key of a token.
func keysAbove(node ast.Node, at *token.Token) (path []string, found bool) {
	if sequence, ok := node.(*ast.SequenceNode); ok {
		for _, v := range sequence.Values {
			if path, found := keysAbove(v, at); found {
				return path, true
			}
		}
		return nil, false
	}
	list, ok := entries(node)
	if !ok {
		return nil, false
	}
	for _, e := range list {
		if key := e.Key.GetToken(); key.Position.Line == at.Position.Line && key.Position.Column == at.Position.Column {
			return nil, true
		}
		if path, found := keysAbove(e.Value, at); found {
			return append([]string{keyOf(e)}, path...), true
		}
	}
	return nil, false
}

// plainType is what pointers and lists are of.
func plainType(t reflect.Type) reflect.Type {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	return t
}

// settingType gives the type of a setting, nil for none.
func settingType(t reflect.Type, key string) reflect.Type {
	if t.Kind() != reflect.Struct {
		return nil
	}
	for f := range fields(t) {
		if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); name == key {
			return f.Type
		}
	}
	return nil
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
