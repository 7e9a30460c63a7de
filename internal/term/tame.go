package term

import (
	"fmt"
	"reflect"
	"strings"
	"unicode"
)

// Tame takes out of a text from elsewhere what would act on a terminal instead of being
// shown: control characters, but for line ends and tabs, and those that turn the
// direction of writing (Unicode TR 36, section 2.10).
func Tame(s string) string {
	if !strings.ContainsFunc(s, wild) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if wild(r) {
			return '�'
		}
		return r
	}, s)
}

func wild(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case unicode.IsControl(r):
		return true
	}
	return r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0x200e || r == 0x200f
}

// Escape writes in JSON as escapes what would act on a terminal; JSON's own writers leave
// some of it as it is.
func Escape(doc string) string {
	if !strings.ContainsFunc(doc, wild) {
		return doc
	}
	var b strings.Builder
	for _, r := range doc {
		if wild(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// TameAll tames every text in what a pointer points to.
func TameAll(v any) { tame(reflect.ValueOf(v)) }

func tame(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			tame(v.Elem())
		}
	case reflect.Interface:
		if v.IsNil() {
			return
		}
		if s, ok := v.Interface().(string); ok {
			if v.CanSet() {
				v.Set(reflect.ValueOf(Tame(s)))
			}
			return
		}
		tame(v.Elem())
	case reflect.String:
		if v.CanSet() {
			v.SetString(Tame(v.String()))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				tame(v.Field(i))
			}
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			tame(v.Index(i))
		}
	case reflect.Map:
		tameMap(v)
	}
}

func tameMap(v reflect.Value) {
	for _, key := range v.MapKeys() {
		x := reflect.New(v.Type().Elem()).Elem()
		x.Set(v.MapIndex(key))
		tame(x)
		k := key
		if key.Kind() == reflect.String {
			k = reflect.ValueOf(Tame(key.String())).Convert(key.Type())
			v.SetMapIndex(key, reflect.Value{})
		}
		v.SetMapIndex(k, x)
	}
}
