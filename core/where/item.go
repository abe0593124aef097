package where

import (
	"reflect"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
)

// Item says how expressions see the members of a type, by the names that they have in
// JSON: a bool, whole number, number, text, time, list of texts or map of texts, and the
// same within a member that is an object. What is null is not known.
type Item[T any] struct {
	noun   string
	vars   map[string]*cel.Type
	fields map[string][]int
	once   sync.Once
	lang   *Language
	err    error
}

// Of makes the item of a type, whose members follow a noun: "job.state".
func Of[T any](noun string) *Item[T] {
	it := &Item[T]{noun: noun, vars: map[string]*cel.Type{}, fields: map[string][]int{}}
	it.take(noun, reflect.TypeFor[T](), nil)
	return it
}

// Variables are the names and types of the members.
func (it *Item[T]) Variables() map[string]*cel.Type { return it.vars }

// Language is that of expressions over just this item.
func (it *Item[T]) Language() (*Language, error) {
	it.once.Do(func() { it.lang, it.err = New(it.vars) })
	return it.lang, it.err
}

func (it *Item[T]) take(prefix string, t reflect.Type, index []int) {
	for i := range t.NumField() {
		f := t.Field(i)
		at := append(index[:len(index):len(index)], i)
		if f.Anonymous {
			it.take(prefix, f.Type, at)
			continue
		}
		tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "" || tag == "-" {
			continue
		}
		name := prefix + "." + tag
		if ct := typeOf(f.Type); ct != nil {
			it.vars[name], it.fields[name] = ct, at
		} else if of := pointed(f.Type); of.Kind() == reflect.Struct && len(index) == 0 {
			it.take(name, of, at)
		}
	}
}

func pointed(t reflect.Type) reflect.Type {
	if t.Kind() == reflect.Pointer {
		return t.Elem()
	}
	return t
}

// typeOf is the type in expressions; nil for what they do not see.
func typeOf(t reflect.Type) *cel.Type {
	if pointed(t) == reflect.TypeFor[time.Time]() {
		return cel.TimestampType
	}
	switch t.Kind() {
	case reflect.Bool:
		return cel.BoolType
	case reflect.Int, reflect.Int64, reflect.Uint64:
		return cel.IntType
	case reflect.Float64:
		return cel.DoubleType
	case reflect.String:
		return cel.StringType
	case reflect.Slice:
		if t.Elem().Kind() == reflect.String {
			return cel.ListType(cel.StringType)
		}
	case reflect.Map:
		if t.Key().Kind() == reflect.String && t.Elem().Kind() == reflect.String {
			return cel.MapType(cel.StringType, cel.StringType)
		}
	}
	return nil
}

// Value is the value of a member; false where it is null or there is no such member.
func (it *Item[T]) Value(item T, name string) (any, bool) {
	index, ok := it.fields[name]
	if !ok {
		return nil, false
	}
	v := reflect.ValueOf(item)
	for _, i := range index {
		if v.Kind() == reflect.Pointer {
			if v.IsNil() {
				return nil, false
			}
			v = v.Elem()
		}
		v = v.Field(i)
	}
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return nil, false
		}
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Int:
		return v.Int(), true
	case reflect.Uint64:
		return int64(v.Uint()), true
	}
	return v.Interface(), true
}
