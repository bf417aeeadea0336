package workflow_test

import (
	"context"
	"errors"
	"reflect"
	"testing"

	"zenithridge.example/zridge/core/access"
	. "zenithridge.example/zridge/service/workflow"
)

// Every use case that an actor asks for is refused to one without rights, before anything else is
// looked at.
func TestNothingIsDoneWithoutARight(t *testing.T) {
	t.Parallel()
	f, _ := flow(t, on("2026-11-23"))
	actor, ctx, failed := reflect.TypeFor[Actor](), reflect.TypeFor[context.Context](), reflect.TypeFor[error]()
	without := map[string]bool{"Record": true, "RecordOften": true} // what was done elsewhere, which was allowed there
	tested := 0
	service := reflect.ValueOf(f)
	for i := range service.NumMethod() {
		name, method := service.Type().Method(i).Name, service.Method(i)
		in := method.Type()
		asked := false
		for k := range in.NumIn() {
			asked = asked || in.In(k) == actor
		}
		if !asked || without[name] {
			continue
		}
		if in.NumIn() < 2 || in.In(0) != ctx || in.In(1) != actor || in.Out(in.NumOut()-1) != failed {
			t.Errorf("%s does not take a context and an actor first, and give an error last", name)
			continue
		}
		args := []reflect.Value{reflect.ValueOf(t.Context()), reflect.ValueOf(Actor{Name: "nobody", Via: "api"})}
		for k := 2; k < in.NumIn(); k++ {
			args = append(args, reflect.Zero(in.In(k)))
		}
		if in.IsVariadic() {
			args = args[:len(args)-1]
		}
		out := method.Call(args)
		err, _ := out[len(out)-1].Interface().(error)
		var denied *access.DeniedError
		if !errors.As(err, &denied) {
			t.Errorf("%s: the error is %v, expected that a right is missing", name, err)
		}
		tested++
	}
	if tested < 60 {
		t.Errorf("%d use cases were tried, expected all of them", tested)
	}
}
