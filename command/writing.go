// This file has what commands that write share: the change that edits go into, and what is said of
// a policy after each.

package command

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// given makes a query of the flags that were set.
func given(c *cli.Command, flags ...string) url.Values {
	query := url.Values{}
	for _, name := range flags {
		if c.IsSet(name) {
			query.Set(name, c.String(name))
		}
	}
	return query
}

func changeFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "change",
		Sources: cli.EnvVars("ZRIDGE_CHANGE"),
		Usage:   "the `CHANGE` that edits go into; without it the one that you opened last, or a new one",
	}
}

// writing makes an action that puts edits into a change.
func writing(
	s Streams,
	arguments int,
	expected string,
	do func(context.Context, *cli.Command, *client.Client, wire.Change) error,
) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := countArguments(c, arguments, expected); err != nil {
			return err
		}
		api, err := signedIn()
		if err != nil {
			return err
		}
		change, err := changeFor(ctx, s, c, api)
		if err != nil {
			return err
		}
		return do(ctx, c, api, change)
	}
}

// changeFor gives the change that edits go into: the one that is named, else the one that was
// opened last if it is still open, else a new one.
func changeFor(ctx context.Context, s Streams, c *cli.Command, api *client.Client) (wire.Change, error) {
	if id := c.String("change"); id != "" {
		return client.Get[wire.Change](ctx, api, client.Path("changes", id), nil)
	}
	k, err := readSignIn()
	if err != nil {
		return wire.Change{}, err
	}
	if k.Change != "" {
		if change, err := client.Get[wire.Change](ctx, api, client.Path("changes", k.Change), nil); err == nil && change.State == "open" {
			fmt.Fprintf(s.Err, "in the open change %s, %s\n", change.ID, change.Title)
			return change, nil
		}
	}
	change, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Edits by " + k.Name})
	if err != nil {
		return change, err
	}
	fmt.Fprintf(s.Err, "opened the change %s, %s\n", change.ID, change.Title)
	return change, rememberChange(change.ID)
}

// rememberChange notes the change that the next edits go into.
func rememberChange(id string) error {
	k, err := readSignIn()
	if err != nil {
		return err
	}
	k.Change = id
	return saveSignIn(*k)
}

// policyIn gives a policy as a change has it, else as it is live.
func policyIn(ctx context.Context, api *client.Client, change wire.Change, id string) (files.PolicyDoc, error) {
	var doc files.PolicyDoc
	for _, e := range change.Edits {
		if e.Kind == "policies" && e.ID == id && e.Action != "retire" {
			return doc, readDoc(e.Body, &doc)
		}
	}
	o, err := client.Get[wire.Object](ctx, api, client.Path("estate", "policies", id), nil)
	if err != nil {
		return doc, err
	}
	return doc, readDoc(o.Body, &doc)
}

// readDoc reads a policy from JSON, with entries in both forms.
func readDoc(data []byte, doc *files.PolicyDoc) error {
	if err := json.Unmarshal(data, doc); err != nil {
		return fmt.Errorf("the policy can't be read: %w", err)
	}
	return nil
}

// putPolicy puts a policy into a change and says what it would do.
func putPolicy(ctx context.Context, s Streams, api *client.Client, change wire.Change, doc files.PolicyDoc) error {
	body, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	if err := putEdit(ctx, api, s.Out, change, http.MethodPut, "policies", doc.ID, "", body); err != nil {
		return err
	}
	return reviewPolicy(ctx, s.Out, api, doc.ID, change.ID)
}

// reviewPolicy says whom a policy reaches, what is odd about it and where else its settings are
// set.
func reviewPolicy(ctx context.Context, w io.Writer, api *client.Client, id, change string) error {
	query := url.Values{}
	if change != "" {
		query.Set("change", change)
	}
	use, err := client.Get[wire.PolicyUse](ctx, api, client.Path("policies", id, "use"), query)
	if err != nil {
		return err
	}
	printUse(w, use)
	return nil
}

// unknownText says on how many laptops it is not known whether they support a setting; empty where
// it is on none.
func unknownText(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" Support is not known on %s.", counted(n, "laptop"))
}

// supportText says how many of the laptops that get a policy support none of its settings.
func supportText(gets, unsupported int) string {
	switch {
	case gets == 0:
		return "No laptop gets it."
	case unsupported == 0:
		return "All laptops support at least one of its settings."
	}
	return fmt.Sprintf("%s of %d support none of its settings.", counted(unsupported, "laptop"), gets)
}

func printUse(w io.Writer, use wire.PolicyUse) {
	r := use.Reach
	fmt.Fprintf(w, "Assigned to %s of %s. Left out: %d by name, %d by the condition, %d by platform.\n",
		counted(r.Gets, "laptop"), counted(r.People, "person"), r.Excluded, r.Condition, r.Platform)
	fmt.Fprintln(w, supportText(r.Gets, r.Unsupported))
	for _, f := range use.Findings {
		word := "WRONG"
		if f.Warning {
			word = "look"
		}
		fmt.Fprintf(w, "%-5s  %s\n", word, f.Text)
		if f.Kind == "many-purposes" {
			fmt.Fprintln(w, "       split it: zridge policy split POLICY NEW-POLICY", strings.Join(f.Purposes[1].Settings, " "))
		}
	}
	said := map[string]bool{}
	for _, f := range use.Findings {
		said[f.Check] = f.Check != ""
	}
	for _, p := range use.Problems {
		if said[p.Check] {
			continue
		}
		fmt.Fprintf(w, "%-5s  %s, together with %s, on %s\n", "WRONG", p.Message, strings.Join(p.From, ", "), counted(p.DeviceCount, "device"))
	}
	for id, lacking := range sorted(use.Lacking) {
		n := 0
		for _, count := range lacking {
			n += count
		}
		fmt.Fprintf(w, "%-5s  %s is not supported on %s\n", "look", id, counted(n, "device"))
	}
	for id, n := range sorted(use.NotKnown) {
		fmt.Fprintf(w, "%-5s  whether %s is supported is not known on %s\n", "look", id, counted(n, "device"))
	}
	apart := map[string][]string{}
	for _, a := range use.AlsoSet {
		if a.Relation == "apart" {
			apart[a.Setting] = append(apart[a.Setting], a.Policy)
			continue
		}
		fmt.Fprintf(w, "also   %s = %s in %s, for %d of these (%s)\n", a.Setting, a.Value, a.Policy, a.Shared, a.Relation)
	}
	for id, policies := range sorted(apart) {
		fmt.Fprintf(w, "also   %s in %s, for none of these\n", id, strings.Join(policies, ", "))
	}
}

// settingDoc asks for a definition.
func settingDoc(ctx context.Context, api *client.Client, id, change string) (wire.SettingUse, error) {
	query := url.Values{}
	if change != "" {
		query.Set("change", change)
	}
	d, err := client.Get[wire.SettingUse](ctx, api, client.Path("settings", id), query)
	if p, refused := err.(*wire.Problem); refused && p.Status == http.StatusNotFound {
		found, searchErr := client.Get[wire.Page[wire.Setting]](
			ctx,
			api,
			"/settings",
			url.Values{"q": {strings.NewReplacer(".", " ", "_", " ").Replace(id)}, "limit": {"3"}},
		)
		if searchErr == nil && len(found.Items) > 0 {
			near := make([]string, len(found.Items))
			for i, f := range found.Items {
				near[i] = f.ID
			}
			return d, usage("found the setting %s, which the dictionary does not have; near it are %s", problem.Quote(id), strings.Join(near, ", "))
		}
	}
	return d, err
}

func readLines(s Streams, name string) ([]string, error) {
	var data []byte
	var err error
	if name == "-" {
		data, err = io.ReadAll(io.LimitReader(s.In, 16<<20))
	} else {
		data, err = os.ReadFile(name)
	}
	return linesOf(string(data)), err
}
