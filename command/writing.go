// This file has what commands that write share: the change that edits go into, and what is said of
// a policy after each.

package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
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

// readingFlags choose what a command that reads is about: a change that is open, what is live, or the estate
// as it was at a moment.
func readingFlags() []cli.Flag {
	return []cli.Flag{readChangeFlag(), liveFlag(), atFlag()}
}

// reading is what a command that reads is about.
type reading struct {
	change wire.Change // laid over what is live; without an id: none
	at     string      // the moment; empty: now
}

// query makes the query by which the service answers so.
func (r reading) query() url.Values {
	query := url.Values{}
	if r.change.ID != "" {
		query.Set("change", r.change.ID)
	}
	if r.at != "" {
		query.Set("at", r.at)
	}
	return query
}

func readChangeFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "change",
		Sources: cli.EnvVars("ZRIDGE_CHANGE"),
		Usage:   "as it would be with this `CHANGE`; without it with the one that you opened last, if it is open",
	}
}

func liveFlag() cli.Flag {
	return &cli.BoolFlag{Name: "live", Usage: "as it is live, whichever change is open"}
}

// writing makes an action that puts edits into a change. A change that was opened for it is taken
// away again if nothing came into it.
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
		change, opened, err := changeFor(ctx, s, c, api)
		if err != nil {
			return err
		}
		err = do(ctx, c, api, change)
		if !opened {
			return err
		}
		if err != nil {
			now, lost := client.Get[wire.Change](ctx, api, client.Path("changes", change.ID), nil)
			if lost == nil && len(now.Edits) == 0 {
				_, lost = api.Call(ctx, http.MethodDelete, client.Path("changes", change.ID), nil, nil, nil)
				return errors.Join(err, lost)
			}
		}
		fmt.Fprintf(s.Err, "opened the change %s, %s\n", change.ID, change.Title)
		return errors.Join(err, rememberChange(change.ID))
	}
}

// changeFor gives the change that edits go into: the one that is named, else the one that was
// opened last if it is still open, else a new one, which is opened.
func changeFor(ctx context.Context, s Streams, c *cli.Command, api *client.Client) (change wire.Change, opened bool, err error) {
	if id := c.String("change"); id != "" {
		change, err = client.Get[wire.Change](ctx, api, client.Path("changes", id), nil)
		return change, false, err
	}
	k, err := readSignIn()
	if err != nil {
		return change, false, err
	}
	if change, ok := openChange(ctx, api, k); ok {
		fmt.Fprintf(s.Err, "in the open change %s, %s\n", change.ID, change.Title)
		return change, false, nil
	}
	change, err = client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Edits by " + k.Name})
	return change, err == nil, err
}

// openChange gives the change that was opened last; ok is false where it is no longer open.
func openChange(ctx context.Context, api *client.Client, k *savedSignIn) (change wire.Change, ok bool) {
	if k.Change == "" {
		return change, false
	}
	change, err := client.Get[wire.Change](ctx, api, client.Path("changes", k.Change), nil)
	return change, err == nil && change.State == "open"
}

// readingOf gives what a command reads, as readingFlags choose it, and says which change is laid over what is
// live.
func readingOf(ctx context.Context, s Streams, c *cli.Command, api *client.Client) (r reading, err error) {
	id, at := c.String("change"), c.String("at")
	switch {
	case c.Bool("live") && c.IsSet("change") && id != "":
		return r, usage("%s: found --live and --change, expected one of them", c.Name)
	case at != "" && (c.Bool("live") || c.IsSet("change") && id != ""):
		return r, usage("%s: found --at with --live or --change, expected one of them", c.Name)
	case at != "":
		return reading{at: at}, nil
	case c.Bool("live"):
		return r, nil
	case id != "":
		r.change, err = client.Get[wire.Change](ctx, api, client.Path("changes", id), nil)
		return r, err
	}
	k, err := readSignIn()
	if err != nil {
		return r, err
	}
	change, ok := openChange(ctx, api, k)
	if !ok || len(change.Edits) == 0 {
		return r, nil
	}
	fmt.Fprintf(s.Err, "with the open change %s, %s; --live shows what is live\n", change.ID, change.Title)
	return reading{change: change}, nil
}

// hasEdit tells whether a change edits an object.
func hasEdit(change wire.Change, kind, id string) bool {
	return slices.ContainsFunc(change.Edits, func(e wire.Edit) bool { return e.Kind == kind && e.ID == id })
}

// objectIn gives an object as a change has it, else as it is live.
func objectIn(ctx context.Context, api *client.Client, r reading, kind, id string) (wire.Object, error) {
	for _, e := range r.change.Edits {
		if e.Kind == kind && e.ID == id && e.Action == "retire" {
			return wire.Object{}, &exitError{exitFault, fmt.Sprintf("The change %s retires %s/%s.", r.change.ID, kind, id)}
		} else if e.Kind == kind && e.ID == id {
			return wire.Object{Kind: kind, ID: id, Version: e.BaseVersion, Body: e.Body}, nil
		}
	}
	return client.Get[wire.Object](ctx, api, client.Path("estate", kind, id), reading{at: r.at}.query())
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

// policyIn gives a policy as a change has it, as it was at a moment, or as it is live.
func policyIn(ctx context.Context, api *client.Client, r reading, id string) (files.PolicyDoc, error) {
	var doc files.PolicyDoc
	o, err := objectIn(ctx, api, r, "policies", id)
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
	return reviewPolicy(ctx, s.Out, api, doc.ID, reading{change: change})
}

// reviewPolicy says whom a policy reaches, what is odd about it and where else its settings are
// set.
func reviewPolicy(ctx context.Context, w io.Writer, api *client.Client, id string, r reading) error {
	use, err := client.Get[wire.PolicyUse](ctx, api, client.Path("policies", id, "use"), r.query())
	if err != nil {
		return err
	}
	printUse(w, use, id)
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

func printUse(w io.Writer, use wire.PolicyUse, policy string) {
	r := use.Reach
	fmt.Fprintf(w, "Assigned to %s of %s. Left out: %d by name, %d by the condition, %d by platform.\n",
		counted(r.Gets, "laptop"), counted(r.People, "person"), r.Excluded, r.Condition, r.Platform)
	fmt.Fprintln(w, takenText(r.NotTaken)+supportText(r.Gets, r.Unsupported))
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
		fmt.Fprintf(
			w,
			"%-5s  %s, together with %s, on %s\n",
			"WRONG",
			p.Message,
			strings.Join(p.From, ", "),
			counted(p.DeviceCount, "device"),
		)
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
		b := a.Beside
		meets := report.Meeting{
			Relation: review.Relation(a.Relation), Both: b.Both, Conflict: b.Conflict, Over: b.Over, Under: b.Under, Neither: b.Neither,
		}.With(policy)
		fmt.Fprintf(w, "also   %s = %s in %s, for %d of these: %s\n", a.Setting, a.Value, a.Policy, a.Shared, meets)
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
	return settingUse(ctx, api, id, query)
}

// settingUse asks for a definition and its use, and names those near it where there is none.
func settingUse(ctx context.Context, api *client.Client, id string, query url.Values) (wire.SettingUse, error) {
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
			return d, usage(
				"found the setting %s, which the dictionary does not have; near it are %s",
				problem.Quote(id),
				strings.Join(near, ", "),
			)
		}
	}
	return d, err
}

func readLines(s Streams, name string) ([]string, error) {
	data, err := readInput(s, name)
	return linesOf(string(data)), err
}
