// This file works on what does not fit together over HTTP: who is involved, ways to settle several
// at once, and questions to the owners.

package service_test

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

const disputed = `{"units":[{"id":"r","title":"Larkfell"},{"id":"fleet","parent":"r","title":"Survey fleet"}],"people":[{"id":"ines","name":"Ines Okafor"}],
 "devices":[{"id":"LT-1","os":"linux","os_version":"12","owner":"ines","unit":"fleet"},{"id":"LT-2","os":"linux","os_version":"12"},{"id":"LT-3","os":"linux","os_version":"13","unit":"fleet"}],
 "groups":[{"id":"new","of":"devices","title":"New ones","rule":"device.os_version.atLeast(\"13\")"},{"id":"crew","of":"people","members":["ines"]}],
 "policies":[
  {"id":"a","title":"For new ones","kind":"security","owner":"ines","why":"Asked for by the bridge","settings":{"signin.banner":{"value":"A","note":"short"},"signin.banner_title":"A"},"audience":{"include":["group:new","device:LT-2"]}},
  {"id":"b","kind":"security","owner":"tomas","settings":{"signin.banner":"B","signin.banner_title":"B"},"audience":{"include":["group:new"],"when":"device.os == \"linux\""}},
  {"id":"c","kind":"encryption","settings":{"disk.startup.pin":"require"},"audience":{"include":["everyone"]}},
  {"id":"d","kind":"encryption","settings":{"disk.startup.chip":"forbid"},"audience":{"include":["unit:fleet"]}}]}`

func TestTheWorkbench(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, disputed)
	conflicts := get[[]wire.Conflict](t, api, "/conflicts")
	if len(conflicts) != 2 {
		t.Fatalf("%d conflicts: %+v", len(conflicts), conflicts)
	}
	c := conflicts[0]
	a := c.Involved[0]
	if c.Setting != "signin.banner" || c.Help == "" || c.Since == nil || len(c.Units) != 1 || c.Units[0].Title != "Survey fleet" ||
		len(c.Involved) != 2 ||
		a.Owner != "ines" || a.Why != "Asked for by the bridge" || a.Devices != 2 ||
		a.Entries[0].Note != "short" ||
		c.Involved[1].Audience.When == "" ||
		fmt.Sprint(a.Audience.Include) != "[group:new device:LT-2]" {
		t.Errorf("the conflict is %+v", c)
	}

	ask := func(query url.Values) (ways []wire.ConflictWay) {
		t.Helper()
		if _, err := api.Call(context.Background(), http.MethodGet, "/conflicts/ways", query, nil, &ways); err != nil {
			t.Fatal(err)
		}
		return ways
	}
	var words []string
	for _, w := range ask(url.Values{"setting": {"signin.banner", "signin.banner_title"}, "policies": {"a", "b"}}) {
		words = append(words, fmt.Sprint(w.Kind, " ", w.Policy, " ", w.Targets, " ", len(w.Edits), " ", w.Left))
		if w.Touched != 1 || w.Devices != 1 && w.Kind != "drop" || len(tried(t, api, editsOf(w)...).ConflictsCleared) != 2 {
			t.Errorf("%+v", w)
		}
	}
	want := []string{
		"prefer a [] 2 0",
		"raise a [] 1 0",
		"lock a [] 1 0",
		"prefer b [] 2 0",
		"raise b [] 1 0",
		"lock b [] 1 0",
		"narrow a [unit:fleet] 1 0",
		"drop a [] 1 0",
		"drop b [] 1 0",
	}
	if !slices.Equal(words, want) {
		t.Errorf("ways to settle both:\n%s", strings.Join(words, "\n"))
	}
	for _, one := range ask(url.Values{"setting": {"signin.banner"}, "policies": {"b", "a"}}) {
		if one.Kind == "prefer" && len(one.Edits) != 1 {
			t.Errorf("one setting: %+v", one)
		}
	}
	if ways := ask(url.Values{"setting": {"signin.banner"}, "policies": {"a", "c"}}); len(ways) != 0 {
		t.Errorf("ways to settle what is no conflict: %+v", ways)
	}

	problems := get[[]wire.FoundProblem](t, api, "/problems")
	at := slices.IndexFunc(problems, func(p wire.FoundProblem) bool { return p.Check == "startup.pin-without-chip" })
	if at < 0 || len(problems[at].Involved) != 2 || len(problems[at].Involved[0].Entries) != 1 || problems[at].DeviceCount != 2 ||
		problems[at].Units[0].Devices != 2 {
		t.Fatalf("problems: %+v", problems)
	}
	words = nil
	for _, w := range ask(url.Values{"check": {"startup.pin-without-chip"}, "policies": {"c", "d"}}) {
		words = append(words, fmt.Sprint(w.Kind, " ", w.Policy, " ", w.Targets, " ", w.Left))
	}
	if !slices.Equal(words, []string{"narrow c [unit:fleet] 0", "drop c [] 0", "drop d [] 0"}) {
		t.Errorf("ways to make it right: %v", words)
	}
	var touched wire.Touched
	if _, err := api.Call(
		context.Background(),
		http.MethodGet,
		"/conflicts/touched",
		url.Values{"check": {"startup.pin-without-chip"}, "policies": {"c", "d"}},
		nil,
		&touched,
	); err != nil {
		t.Fatal(err)
	}
	if len(touched.Devices) != 2 || fmt.Sprint(touched.Groups) != "[{crew  people 1} {new New ones devices 1}]" {
		t.Errorf("touched: %+v", touched)
	}
}

func editsOf(w wire.ConflictWay) (out []any) {
	for _, e := range w.Edits {
		out = append(out, edit(e.Kind, e.ID, string(e.Body)))
	}
	return out
}

func TestAskingTheOwners(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, disputed)
	ctx := context.Background()
	post := func(api *client.Client, path string, in any) (q wire.Question, err error) {
		_, err = api.Call(ctx, http.MethodPost, path, nil, in, &q)
		return q, err
	}
	for name, bad := range map[string]wire.AskOwners{
		"no note":            {Setting: "signin.banner", Policies: []string{"a", "b"}},
		"no such conflict":   {Setting: "signin.banner", Policies: []string{"a", "c"}, Note: "?"},
		"neither of both":    {Policies: []string{"a", "b"}, Note: "?"},
		"nobody to be asked": {Check: "startup.pin-without-chip", Policies: []string{"c", "d"}, Note: "?"},
	} {
		_, err := post(api, "/conflict-questions", bad)
		if p := refused(t, err); p.Status != 422 || len(p.Faults) == 0 {
			t.Errorf("%s: %+v", name, p)
		}
	}
	q, err := post(
		api,
		"/conflict-questions",
		wire.AskOwners{Setting: "signin.banner", Policies: []string{"b", "a"}, Note: "Which of the two?"},
	)
	if err != nil || fmt.Sprint(q.Of) != "[ines tomas]" || q.State != "open" || !q.Current || q.By != "ines" {
		t.Fatalf("%+v %v", q, err)
	}
	other, err := post(
		api,
		"/conflict-questions",
		wire.AskOwners{Check: "startup.pin-without-chip", Policies: []string{"c", "d"}, Of: []string{"tomas"}, Note: "Is the chip ready?"},
	)
	if err != nil {
		t.Fatal(err)
	}
	if c := get[[]wire.Conflict](t, api, "/conflicts")[0]; len(c.Questions) != 1 || c.Questions[0].Note != "Which of the two?" {
		t.Errorf("the conflict does not have its question: %+v", c.Questions)
	}

	// A reader answers what they are asked, and nothing else.
	reader := &client.Client{Base: api.Base, Token: readersToken(t, api)}
	_, err = post(reader, "/conflict-questions/"+other.ID+"/answer", wire.Answer{Answer: "Yes"})
	if p := refused(t, err); p.Status != 404 {
		t.Errorf("somebody else's question: %+v", p)
	}
	_, err = post(reader, "/conflict-questions/"+q.ID+"/answer", wire.Answer{Answer: " "})
	if p := refused(t, err); p.Status != 422 {
		t.Errorf("no answer: %+v", p)
	}
	if q, err = post(
		reader,
		"/conflict-questions/"+q.ID+"/answer",
		wire.Answer{Answer: "A, the other is over"},
	); err != nil || q.State != "answered" ||
		q.AnsweredBy != "ines" {
		t.Errorf("%+v %v", q, err)
	}
	_, err = post(api, "/conflict-questions/"+q.ID+"/answer", wire.Answer{Answer: "B"})
	if p := refused(t, err); p.Status != 409 {
		t.Errorf("answered twice: %+v", p)
	}
	if _, err := api.Call(ctx, http.MethodDelete, "/conflict-questions/"+other.ID, nil, nil, nil); err != nil {
		t.Error(err)
	}
	if open := get[[]wire.Question](t, api, "/conflict-questions?state=open"); len(open) != 0 {
		t.Errorf("open still: %+v", open)
	}

	// With the conflict the question is over.
	publishEstate(
		t,
		api,
		strings.Replace(disputed, `"policies":[`, `"rulings":[{"id":"r1","setting":"signin.banner","prefer":"a","over":"b"}],"policies":[`, 1),
	)
	if list := get[[]wire.Question](t, api, "/conflict-questions?state=answered"); len(list) != 1 || list[0].Current {
		t.Errorf("%+v", list)
	}
}
