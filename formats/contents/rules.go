// This file reads rule sets of application control, a format of our own:
// application-rules.schema.json beside this file is its JSON Schema, docs/application-rules.md says
// what it means.

package contents

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

const (
	rulesFormat = "zenith-ridge/application-rules/1"
	maxRules    = 8 << 20 // bytes of a rule set

	// maxRuleTokens is how many keys, values and brackets 5000 rules have at most, and some more.
	// What has more is not looked at further.
	maxRuleTokens = 400_000
)

// RulesSchema is the JSON Schema of a rule set.
//
//go:embed application-rules.schema.json
var RulesSchema []byte

// RuleSet is what a rule set of application control says.
type RuleSet struct {
	ID        string `json:"id" doc:"A UUID in lower case with no braces, however the file writes it"`
	Title     string `json:"title,omitempty"`
	Version   string `json:"version,omitempty"`
	Otherwise string `json:"otherwise" enum:"allow,deny"`
	Rules     []Rule `json:"rules"`
}

// Rule lets a program start, or keeps it from it. All of path, hash and signer that are there must
// match.
type Rule struct {
	ID        string   `json:"id"`
	Action    string   `json:"action" enum:"allow,deny"`
	Title     string   `json:"title,omitempty"`
	Platforms []string `json:"platforms,omitempty"`
	Path      string   `json:"path,omitempty"`
	SHA256    string   `json:"sha256,omitempty"`
	Signer    *Signer  `json:"signer,omitempty"`
}

// Signer names who signed a program.
type Signer struct {
	Name              string `json:"name,omitempty"`
	CertificateSHA256 string `json:"certificate_sha256,omitempty"`
}

var rulesSchema = sync.OnceValue(func() *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(RulesSchema))
	if err != nil {
		panic("contents: the schema is part of the program: " + err.Error())
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("rules.json", document); err != nil {
		panic("contents: " + err.Error())
	}
	return c.MustCompile("rules.json")
})

func readRules(data []byte) (*Reading, error) {
	const want = "a rule set as docs/application-rules.md describes it"
	if len(data) > maxRules {
		return nil, refuse(fmt.Sprintf("%d bytes of rules", len(data)), "at most 8 MiB")
	}
	if !utf8.Valid(data) {
		return nil, refuse("bytes that are not UTF-8", "a rule set in UTF-8")
	}
	if err := checkJSON(data); err != nil {
		return nil, err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return nil, refuse("JSON that can't be read", want)
	}
	if err := rulesSchema().Validate(document); err != nil {
		return nil, schemaFaults(err)
	}
	var set RuleSet
	if err := json.Unmarshal(data, &fileRules{RuleSet: &set}); err != nil {
		return nil, refuse("JSON that can't be read", want)
	}
	set.ID = strings.ToLower(strings.Trim(strings.TrimSpace(set.ID), "{}"))
	if set.Otherwise == "" {
		set.Otherwise = "deny"
	}
	r := &Reading{Content: setting.RulesFile, MediaType: "application/json", Rules: &set}
	return r, judgeRules(r, &set)
}

// fileRules takes the format's name, which a RuleSet need not keep.
type fileRules struct {
	Format string `json:"format"`
	*RuleSet
}

// judgeRules refuses rules that contradict each other, and warns of those that say more than they
// seem to.
func judgeRules(r *Reading, set *RuleSet) error {
	ids := map[string]int{}
	matchers := map[string]*Rule{}
	for i := range set.Rules {
		rule := &set.Rules[i]
		rule.SHA256 = strings.ToLower(rule.SHA256)
		if first, twice := ids[rule.ID]; twice {
			return refuse(
				fmt.Sprintf("rule %d with the id %s, as rule %d has", i+1, problem.Quote(rule.ID), first+1),
				"an id of its own for each rule",
			)
		}
		ids[rule.ID] = i
		key := strings.Join(append([]string{rule.Path, rule.SHA256, signerText(rule.Signer)}, rule.Platforms...), "\x00")
		if other := matchers[key]; other != nil {
			if other.Action != rule.Action {
				return refuse(
					fmt.Sprintf("the rules %s and %s, which allow and deny the same", problem.Quote(other.ID), problem.Quote(rule.ID)),
					"one of the two",
				)
			}
			r.Warnings = append(r.Warnings, fmt.Sprintf("the rules %s and %s say the same", other.ID, rule.ID))
		}
		matchers[key] = rule
		if rule.Action == "allow" && rule.SHA256 == "" && rule.Signer == nil && isBroad(rule.Path) {
			r.Warnings = append(
				r.Warnings,
				fmt.Sprintf("the rule %s allows everything below %s, where people may be able to put programs", rule.ID, rule.Path),
			)
		}
		if strings.ContainsAny(rule.Path, "{}") {
			r.Warnings = append(r.Warnings, fmt.Sprintf("the path of rule %s has a brace in it: %s", rule.ID, rule.Path))
		}
	}
	if set.Otherwise == "allow" {
		r.Warnings = append(r.Warnings, "what no rule matches is allowed: this keeps away only what it names")
	}
	return nil
}

func signerText(s *Signer) string {
	if s == nil {
		return ""
	}
	return s.Name + "|" + strings.ToLower(s.CertificateSHA256)
}

func isBroad(path string) bool {
	switch strings.TrimRight(strings.ToLower(path), "*/\\") {
	case "", "c:", "/home", "/tmp", "/var/tmp", "c:\\users", "/users":
		return strings.HasSuffix(path, "*")
	}
	return false
}

// checkJSON refuses doubled keys, nesting beyond 32 levels and what follows the object: readers of
// JSON disagree about those.
func checkJSON(data []byte) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	type level struct {
		keys  map[string]bool // nil: a list
		isKey bool
	}
	var open []level
	tokens := 0
	for {
		token, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			line := 1 + bytes.Count(data[:min(int(d.InputOffset()), len(data))], []byte("\n"))
			return refuse(fmt.Sprintf("JSON that is broken at line %d", line), "a rule set in JSON")
		}
		if tokens++; tokens > maxRuleTokens {
			return refuse("more values than the most rules have", "at most 5000 rules")
		}
		top := len(open) - 1
		switch t := token.(type) {
		case json.Delim:
			switch t {
			case '{', '[':
				if len(open) >= 32 {
					return refuse("more than 32 levels of nesting", "at most 32")
				}
				next := level{isKey: t == '{'}
				if t == '{' {
					next.keys = map[string]bool{}
				}
				if top >= 0 && open[top].keys != nil {
					open[top].isKey = true
				}
				open = append(open, next)
			default:
				open = open[:top]
			}
			continue
		case string:
			if top >= 0 && open[top].isKey {
				if open[top].keys[t] {
					return refuse(fmt.Sprintf("the key %s twice in one object", problem.Quote(t)), "each key once")
				}
				open[top].keys[t] = true
				open[top].isKey = false
				continue
			}
		}
		if top >= 0 && open[top].keys != nil {
			open[top].isKey = true
		}
	}
	return nil
}

// schemaFaults gives every reason why a document does not fit the schema, each with its place in
// the file.
func schemaFaults(err error) error {
	var invalid *jsonschema.ValidationError
	if !errors.As(err, &invalid) {
		return refuse("JSON that can't be checked", expected(setting.RulesFile))
	}
	printer := message.NewPrinter(language.English)
	var faults problem.Faults
	var walk func(*jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		if len(e.Causes) == 0 {
			path := "/file"
			for _, key := range e.InstanceLocation {
				path = problem.Join(path, key)
			}
			said := e.ErrorKind.LocalizedString(printer)
			if len(said) > 200 {
				said = said[:200] + "…"
			}
			if len(faults) < 20 {
				faults = append(
					faults,
					problem.Fault{Code: problem.WrongContent, Path: path, Found: said, Expected: "a rule set as " +
						"docs/application-rules.md describes it"},
				)
			}
		}
		for _, cause := range e.Causes {
			walk(cause)
		}
	}
	walk(invalid)
	return faults
}
