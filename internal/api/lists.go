// Package api holds what the HTTP API and those who call it have in common.
package api

import (
	"reflect"
	"sync"
)

// Fill puts empty lists and maps in place of missing ones in what v points to, so
// that clients never meet null where they expect a list. Its cost is that of a walk
// over everything that can hold a list.
func Fill(v any) { fill(reflect.ValueOf(v)) }

func fill(v reflect.Value) {
	if !holdsLists(v.Type()) {
		return
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			fill(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fill(v.Field(i))
			}
		}
	case reflect.Slice:
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		}
		for i := range v.Len() {
			fill(v.Index(i))
		}
	case reflect.Map:
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeMap(v.Type()))
		}
		if !v.CanSet() || v.Len() == 0 || !holdsLists(v.Type().Elem()) {
			return
		}
		filled := reflect.MakeMapWithSize(v.Type(), v.Len()) // others may be reading the one there is
		for each := v.MapRange(); each.Next(); {
			value := reflect.New(v.Type().Elem()).Elem()
			value.Set(each.Value())
			fill(value)
			filled.SetMapIndex(each.Key(), value)
		}
		v.Set(filled)
	}
}

// listTypes remembers the answers of holdsLists.
var listTypes sync.Map

func holdsLists(t reflect.Type) bool {
	if known, ok := listTypes.Load(t); ok {
		return known.(bool)
	}
	holds := reaches(t, map[reflect.Type]bool{})
	listTypes.Store(t, holds)
	return holds
}

// reaches reports whether a value of a type can hold a list; seen keeps it from
// going round in types that hold themselves.
func reaches(t reflect.Type, seen map[reflect.Type]bool) bool {
	if seen[t] {
		return false
	}
	seen[t] = true
	switch t.Kind() {
	case reflect.Slice, reflect.Map, reflect.Interface:
		return true
	case reflect.Pointer:
		return reaches(t.Elem(), seen)
	case reflect.Struct:
		for i := range t.NumField() {
			if reaches(t.Field(i).Type, seen) {
				return true
			}
		}
	}
	return false
}
