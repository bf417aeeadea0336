// Package rule compiles and evaluates the expressions of an estate: rules of groups, conditions of
// audiences, forced values and checks. They are CEL (Common Expression Language) expressions of
// type bool over maps of dynamic values, with two functions that compare dotted version numbers.
//
// An expression is compiled once, when it is written or read, and evaluated many times.
package rule

import (
	"fmt"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// Scope says which variables an expression sees. The zero Scope is that of a group of devices.
type Scope uint8

const (
	OfDevice Scope = iota // device: the rule of a group of devices
	OfPerson              // person: the rule of a group of people
	OfWhen                // device and person: an audience's condition
	OfForced              // settings and device
	OfCheck               // settings, device and person
	OfChange              // change: an approval rule; see ChangeFields
	scopes
)

// Variables lists what the scope sees.
func (s Scope) Variables() []string {
	return [...][]string{{"device"}, {"person"}, {"device", "person"}, {"settings", "device"}, {"settings", "device", "person"}, {"change"}}[s]
}

// Rule is a compiled expression. A Rule is safe for concurrent use.
type Rule struct {
	source  string
	scope   Scope
	program cel.Program
	ast     *cel.Ast

	apart sync.Once
	parts *Formula
}

// Source is the expression as it was written.
func (r *Rule) Source() string {
	if r == nil {
		return ""
	}
	return r.source
}

// A CompileError says where in the expression (line and column from 1) something is wrong.
type CompileError struct {
	Line, Column int
	Message      string
}

// Error gives the place and the message on one line.
func (e *CompileError) Error() string {
	return fmt.Sprintf("at %d:%d of the expression: %s", e.Line, e.Column, e.Message)
}

// environments are built once a scope: building one is dear, and they never change.
var environments = func() (built [scopes]func() *cel.Env) {
	for s := range built {
		built[s] = sync.OnceValue(func() *cel.Env { return environment(Scope(s)) })
	}
	return built
}()

// environment builds the CEL environment of a scope: its variables, as maps from text to any value,
// and the functions atLeast and below for versions.
func environment(s Scope) *cel.Env {
	// Numbers compare across types: a fact that is read as a double equals an integer.
	options := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true),
		cel.EnableMacroCallTracking(),
		cel.ExpressionNodeLimit(maxNodes),
	} // macros are written out again when a part is taken by itself
	for _, name := range s.Variables() {
		options = append(options, cel.Variable(name, cel.MapType(cel.StringType, cel.DynType)))
	}
	// Versions are compared by two functions, since texts compare "10" before "9".
	for name, holds := range map[string]func(order int) bool{
		"atLeast": func(order int) bool { return order >= 0 },
		"below":   func(order int) bool { return order < 0 },
	} {
		options = append(options, cel.Function(name,
			cel.MemberOverload("string_"+name+"_string", []*cel.Type{cel.StringType, cel.StringType}, cel.BoolType,
				cel.BinaryBinding(func(a, b ref.Val) ref.Val {
					order, err := CompareVersions(string(a.(types.String)), string(b.(types.String)))
					if err != nil {
						return types.NewErr("%s", err.Error())
					}
					return types.Bool(holds(order))
				}))))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic("rule: the environment of expressions is fixed and must build: " + err.Error())
	}
	return env
}

// Compile parses and checks an expression. It refuses what does not parse, names a variable that
// the scope does not see, has a type that is known not to be bool, or may cost more than is allowed
// (see budget.go). The length is looked at before anything else, since it bounds what parsing may
// cost. The error is a *CompileError.
func Compile(s Scope, source string) (*Rule, error) {
	if refused := affordable(source, nil); refused != nil {
		return nil, refused
	}
	return compile(s, source)
}

// compile is Compile for a source that is not too long.
func compile(s Scope, source string) (*Rule, error) {
	env := environments[s]()
	parsed, issues := env.Parse(source)
	if issues.Err() != nil {
		return nil, compileError(issues)
	}
	if refused := affordable(source, parsed.NativeRep().Expr()); refused != nil {
		return nil, refused
	}
	checked, issues := env.Check(parsed)
	if issues.Err() != nil {
		return nil, compileError(issues)
	}
	if out := checked.OutputType(); !out.IsExactType(cel.BoolType) && !out.IsExactType(cel.DynType) {
		return nil, &CompileError{Line: 1, Column: 1, Message: "the expression is of type " + out.String() + ", not bool"}
	}
	if s == OfChange {
		if refused := knownFields(checked.NativeRep()); refused != nil {
			return nil, refused
		}
	}
	// Only what repeats can cost more than its length. Everything else runs without counting, which
	// is faster.
	var options []cel.ProgramOption
	if repeats(checked.NativeRep().Expr()) {
		if refused := s.estimate(env, checked); refused != nil {
			return nil, refused
		}
		options = append(options, cel.CostLimit(s.maxCost()))
	}
	// Optimising evaluates constant parts at once. If one of them fails, so would the whole
	// program.
	program, err := env.Program(checked, append(options, cel.EvalOptions(cel.OptOptimize))...)
	if err != nil { // a constant part that always fails: an error on each laptop, not in the writing
		program, err = env.Program(checked, options...)
	}
	if err != nil {
		return nil, &CompileError{Line: 1, Column: 1, Message: strings.TrimSpace(err.Error())}
	}
	return &Rule{source: source, scope: s, program: program, ast: checked}, nil
}

// compileError gives the first of the issues: what follows is often a consequence of it. CEL counts
// columns from 0.
func compileError(issues *cel.Issues) *CompileError {
	first := issues.Errors()[0]
	return &CompileError{Line: max(1, first.Location.Line()), Column: max(1, first.Location.Column()+1), Message: first.Message}
}

// Holds evaluates the expression. A field that is absent is an error, not false, so that whoever
// asks can tell the two apart. A value that is no bool is an error as well, with a proposal of how
// to compare it.
func (r *Rule) Holds(variables map[string]any) (bool, error) {
	out, _, err := r.program.Eval(variables)
	if err != nil {
		return false, err
	}
	b, ok := out.(types.Bool)
	if !ok {
		such := "such as >= 16"
		if _, isText := out.(types.String); isText {
			such = `such as == "linux"`
		}
		return false, fmt.Errorf("it gives a value of type %s, and not true or false; add a comparison, %s", out.Type().TypeName(), such)
	}
	return bool(b), nil
}
