package crossing

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"vaiven/internal/core/oneof"
	"vaiven/internal/core/split"
)

// declared are the types of this package that have a method, by the source.
func declared(t *testing.T, method string) (names []string) {
	t.Helper()
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range tree.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Recv == nil || f.Name.Name != method {
				continue
			}
			if of, ok := f.Recv.List[0].Type.(*ast.Ident); ok {
				names = append(names, of.Name)
			}
		}
	}
	slices.Sort(names)
	return names
}

func namesOf[T any](list []T) (names []string) {
	for _, v := range list {
		names = append(names, reflect.TypeOf(v).Name())
	}
	slices.Sort(names)
	return names
}

// Every act and every fact that is written is in the lists that everything else is made from.
func TestNothingIsLeftOut(t *testing.T) {
	if there, listed := declared(t, "About"), namesOf(Acts); !slices.Equal(there, listed) {
		t.Errorf("there are the acts %v, and listed are %v", there, listed)
	}
	for method, listed := range map[string][]string{"Kind": namesOf(Facts.Zeroes()), "Name": namesOf(Reasons.Zeroes()),
		"cause": namesOf(Causes.Zeroes()), "question": namesOf(Questions.Zeroes()),
		"trouble": namesOf(Troubles.Zeroes()), "lack": namesOf(Lacks.Zeroes())} {
		there := slices.DeleteFunc(declared(t, method), func(name string) bool {
			return name == "Unknown" || name == "Newer" || name == "Question"
		})
		if !slices.Equal(there, listed) {
			t.Errorf("with %s there are %v, and listed are %v", method, there, listed)
		}
	}
	names := map[string]string{}
	for _, a := range Acts {
		about := a.About()
		if about.Name == "" || about.Does == "" || strings.ContainsAny(about.Name, " _") || names[about.Name] != "" {
			t.Errorf("%T is called %q, and does %q", a, about.Name, about.Does)
		}
		names[about.Name] = about.Does
		for f := range reflect.TypeOf(a).Fields() {
			if f.Tag.Get("json") != "-" && f.Tag.Get("says") == "" {
				t.Errorf("%s of %T is not described", f.Name, a)
			}
		}
	}
	for _, f := range Facts.Zeroes() {
		if names[f.Kind()] != "" || f.Kind() == "" {
			t.Errorf("%T is called %q, as something else", f, f.Kind())
		}
		names[f.Kind()] = "a fact"
	}
	if _, err := Named("sing"); err == nil || !strings.Contains(err.Error(), `no act "sing"`) {
		t.Errorf("an act that there is not: %v", err)
	}
}

// filled is a value of a type with something in every field, as far as that goes.
func filled(t reflect.Type, depth int) reflect.Value {
	v := reflect.New(t).Elem()
	switch t.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64, reflect.Int32, reflect.Int8:
		v.SetInt(1)
	case reflect.Uint, reflect.Uint64, reflect.Uint32, reflect.Uint8:
		v.SetUint(1)
	case reflect.Float64:
		v.SetFloat(0.5)
	case reflect.Struct:
		if t == reflect.TypeFor[time.Time]() {
			return reflect.ValueOf(time.Unix(1_800_000_000, 0).UTC())
		}
		for n := range t.NumField() {
			if f := t.Field(n); f.IsExported() && f.Tag.Get("json") != "-" && depth > 0 {
				v.Field(n).Set(filled(f.Type, depth-1))
			}
		}
	case reflect.Slice:
		if depth > 0 && t.Elem().Kind() != reflect.Uint8 {
			v.Set(reflect.Append(v, filled(t.Elem(), depth-1)))
		}
	}
	return v
}

// What is written of acts and facts is read back as it was, all of it.
func TestNothingIsLost(t *testing.T) {
	for _, a := range Acts {
		want := filled(reflect.TypeOf(a), 3).Interface().(Act)
		data, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := ActOf(a.About().Name, data); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s is read as %+v, %v, and was %+v", data, got, err, want)
		}
	}
	for _, f := range Facts.Zeroes() {
		want := Event{Seq: 7, Crossing: 3, At: time.Unix(1_800_000_000, 0).UTC(), By: "marit", Said: "why",
			What: filled(reflect.TypeOf(f), 3).Interface().(Fact)}
		data, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		var got Event
		if err := json.Unmarshal(data, &got); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s is read as %+v, %v, and was %+v", data, got, err, want)
		}
	}
	for _, r := range Reasons.Zeroes() {
		want := Refuse(filled(reflect.TypeOf(r), 3).Interface().(Reason))
		data, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		var got Refusal
		if err := json.Unmarshal(data, &got); err != nil || !reflect.DeepEqual(&got, want) {
			t.Errorf("%s is read as %+v, %v, and was %+v", data, got.Because, err, want.Because)
		}
	}
	lossless(t, Causes, func(k CauseKind) any { return Because(k) }, new(Cause))
	lossless(t, Troubles, func(k TroubleKind) any { return Went(k) }, new(Trouble))
	lossless(t, Lacks, func(k LackKind) any { return Lacking(k) }, new(Lack))
	lossless(t, Questions, func(k QuestionKind) any {
		return Question{ID: 7, At: time.Unix(1_800_000_000, 0).UTC(), Side: split.Green, Is: k}
	}, new(Question))
	var newer Refusal
	if err := json.Unmarshal([]byte(`{"kind":"no mood","side":"blue"}`), &newer); err != nil ||
		newer.Because.Name() != "no mood" {
		t.Errorf("a reason of a newer Vaiven is read as %+v, %v", newer, err)
	}
}

// lossless holds each kind of a set, and one that is not known, to be read as it was written.
func lossless[T any](t *testing.T, set *oneof.Set[T], of func(T) any, into any) {
	t.Helper()
	list := set.Zeroes()
	for n := range list {
		list[n] = filled(reflect.TypeOf(list[n]), 3).Interface().(T)
	}
	newer, err := set.Read([]byte(`{"id":7,"at":"2027-01-15T08:00:00Z","side":"green","kind":"no mood","tide":"low"}`))
	if err != nil || set.Name(newer) != "no mood" {
		t.Fatalf("a newer one is %+v, %v", newer, err)
	}
	for _, v := range append(list, newer) {
		want := of(v)
		data, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		got := reflect.New(reflect.TypeOf(into).Elem())
		if err := json.Unmarshal(data, got.Interface()); err != nil ||
			!reflect.DeepEqual(got.Elem().Interface(), want) {
			t.Errorf("%s is read as %+v, %v, and was %+v", data, got.Elem(), err, want)
		}
	}
}

// leads reports whether a fact may come of an act.
func leads(a Act, f Fact) bool {
	return slices.ContainsFunc(a.About().Facts, func(of Fact) bool { return of.Kind() == f.Kind() })
}

// led is what acts were seen to lead to, while random crossings were played.
type led map[string]map[string]bool

// by holds what came of an input against what its act says of itself.
func (l led) by(t *testing.T, in Input, events []Event) {
	t.Helper()
	a, ok := in.(Act)
	if !ok {
		return
	}
	name := a.About().Name
	if l[name] == nil {
		l[name] = map[string]bool{}
	}
	for _, e := range events {
		if _, wheel := e.What.(TookWheel); wheel {
			continue
		}
		if l[name][e.What.Kind()] = true; !leads(a, e.What) {
			t.Fatalf("%s led to %q, which it does not say", name, e.What.Kind())
		}
	}
}

func (l led) String() string {
	text := ""
	for _, name := range slices.Sorted(maps.Keys(l)) {
		text += fmt.Sprintf("%s: %s\n", name, strings.Join(slices.Sorted(maps.Keys(l[name])), ", "))
	}
	return text
}
