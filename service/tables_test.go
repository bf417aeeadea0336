// This file sends tables to a service.

package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func inventorySource() wire.NewSource {
	return wire.NewSource{
		ID:    "inventory",
		Kind:  "csv",
		Title: "Inventory",
		SetUp: directory.SourceSetUp{Table: &directory.Table{
			Of:    estate.KindDevice,
			Key:   "serial",
			Whole: true,
			Columns: map[string]string{
				"serial":  "serial",
				"os":      "os",
				"release": "os_version",
				"owner":   "owner",
				"site":    "unit",
				"ram":     "facts/ram_gb",
			},
		}},
	}
}

const tableHeader = "serial,os,release,owner,site,ram\n"

// send sends a table.
func send(t testing.TB, api *client.Client, source string, body io.Reader, look bool) (wire.SourceRun, *wire.Problem) {
	t.Helper()
	r, err := http.NewRequest("POST", fmt.Sprintf("%s/api/v1/sources/%s/tables?name=laptops.csv&look=%v", api.Base, source, look), body)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	r.Header.Set("Content-Type", "text/csv")
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Body.Close()
	var run wire.SourceRun
	var refused wire.Problem
	if a.StatusCode != http.StatusOK {
		if err := json.NewDecoder(a.Body).Decode(&refused); err != nil {
			t.Fatal(err)
		}
		return run, &refused
	}
	if err := json.NewDecoder(a.Body).Decode(&run); err != nil {
		t.Fatal(err)
	}
	return run, nil
}

func sent(t testing.TB, api *client.Client, text string) wire.SourceRun {
	t.Helper()
	run, refused := send(t, api, "inventory", strings.NewReader(tableHeader+text), false)
	if refused != nil {
		t.Fatal(refused)
	}
	return run
}

func devices(t testing.TB, api *client.Client) map[string]files.DeviceDoc {
	t.Helper()
	all, err := client.All[wire.Object](context.Background(), api, "/estate/devices", nil)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]files.DeviceDoc{}
	for _, o := range all {
		var doc files.DeviceDoc
		if err := json.Unmarshal(o.Body, &doc); err != nil {
			t.Fatal(err)
		}
		out[doc.ID] = doc
	}
	return out
}

// TestATableIsTakenOnlyAfterALook sends a table that knows one of the laptops that are here
// already.
func TestATableIsTakenOnlyAfterALook(t *testing.T) {
	t.Parallel()
	api := started(t)
	posted[wire.Source](t, api, "/sources", inventorySource())
	const two = "S1,linux,13,ines,R,16\nS9,macos,14.2,,Nowhere,8\n"
	if run := sent(
		t,
		api,
		two,
	); run.State != "waiting" || run.Report.Reason != "first" || run.Report.New != 2 || run.Report.Adopted != 1 ||
		len(devices(t, api)) != 2 {
		t.Fatalf("the first time: %s %+v", run.State, run.Report)
	}
	posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
	got := devices(t, api)
	if d := got["LT-1"]; d.OSVersion != "13" || d.Facts["ram_gb"].Integer() != 16 || d.Unit != "r" || d.Owner != "ines" {
		t.Errorf("the one that was here: %+v", d)
	}
	if d := got["S9"]; d.OS != "macos" || d.Unit != "" || len(got) != 3 {
		t.Errorf("the new one: %+v", d)
	}
	if run := sent(t, api, two); run.State != "taken" || run.Report.Same != 2 || run.Report.New+run.Report.Altered+run.Report.Left != 0 {
		t.Errorf("the same again: %s %+v", run.State, run.Report)
	}
	before := get[[]wire.Publication](t, api, "/publications")[0].Revision
	sent(t, api, two)
	if after := get[[]wire.Publication](t, api, "/publications")[0].Revision; after != before {
		t.Errorf("a table that alters nothing was published as revision %d", after)
	}
	if run := sent(t, api, "S9,macos,14.3,ines@nowhere,R,8\n"); run.Report.Altered != 1 || run.Report.Left != 1 || run.Report.LooseCount != 1 {
		t.Errorf("one altered, one gone: %s %+v", run.State, run.Report)
	}
	if left := get[wire.Page[wire.LeftObject]](t, api, "/left"); left.Total != 1 || left.Items[0].ID != "LT-1" ||
		devices(t, api)["LT-1"].OSVersion != "13" {
		t.Errorf("left: %+v", left)
	}
	if run := sent(t, api, two); run.Report.Back != 1 || run.Report.Altered != 1 {
		t.Errorf("back again: %+v", run.Report)
	}
	// A row with a fault waits for somebody, and what is faulty stays as it was.
	run := sent(t, api, "S1,toaster,13,ines,R,16\nS9,macos,15,,,8\n")
	if run.State != "waiting" || run.Report.Reason != "faults" || run.Report.Faults[0].Place.Line != 2 || run.Report.Left != 0 {
		t.Errorf("a faulty row: %s %+v", run.State, run.Report)
	}
	posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
	if got := devices(t, api); got["LT-1"].OSVersion != "13" || got["S9"].OSVersion != "15" {
		t.Errorf("afterwards: %+v", got)
	}
	// Another set-up is tried before it is in force.
	s := get[wire.Source](t, api, "/sources/inventory")
	other := inventorySource().SetUp
	other.Table.Columns["ram"] = "facts/memory"
	if _, err := api.Call(
		context.Background(),
		"PUT",
		"/sources/inventory",
		nil,
		wire.ProposedSource{SetUp: other},
		nil,
		"If-Match",
		fmt.Sprintf(`"%d"`, s.Version),
	); err != nil {
		t.Fatal(err)
	}
	if run := sent(t, api, two); run.State != "waiting" || run.Report.Reason != "set-up" || run.Report.Altered != 2 {
		t.Errorf("another set-up: %s %+v", run.State, run.Report)
	}
	if _, err := api.Call(context.Background(), "DELETE", "/sources/inventory/runs", nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if _, known := devices(t, api)["S9"].Facts["memory"]; known {
		t.Error("what was let go was taken")
	}
	// Taken away, the source leaves what it brought.
	if _, err := api.Call(context.Background(), "DELETE", "/sources/inventory", nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if got := devices(t, api); len(got) != 3 || got["LT-1"].OSVersion != "13" {
		t.Errorf("after the source was taken away: %+v", got)
	}
}

// TestAnUploadThatBreaksOffLeavesEverything cuts the connection in the middle of a table.
func TestAnUploadThatBreaksOffLeavesEverything(t *testing.T) {
	t.Parallel()
	api := started(t)
	posted[wire.Source](t, api, "/sources", inventorySource())
	sent(t, api, "S1,linux,13,ines,R,16\n")
	posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
	conn, err := net.Dial("tcp", strings.TrimPrefix(api.Base, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(
		conn,
		"POST /api/v1/sources/inventory/tables HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer %s\r\nContent-Type: text/csv\r\n"+
			"Content-Length: "+
			"100000\r\n\r\n%sS2,linux,13,,,\n",
		api.Token,
		tableHeader,
	)
	if err := conn.(*net.TCPConn).CloseWrite(); err != nil {
		t.Fatal(err)
	}
	io.Copy(io.Discard, conn)
	conn.Close()
	s := until(t, api, "/sources/inventory", func(s wire.Source) bool { return s.Running == nil && s.Runs[0].State == "failed" })
	if len(s.Runs) != 2 || len(devices(t, api)) != 2 {
		t.Errorf("afterwards: %+v, %d laptops", s.Runs[0].Report, len(devices(t, api)))
	}
	if left := get[wire.Page[wire.LeftObject]](t, api, "/left"); left.Total != 0 {
		t.Errorf("%d have left", left.Total)
	}
}

// TestABigTableIsReadAsItComes sends 300 MB, of which most is in columns that nobody asked for.
func TestABigTableIsReadAsItComes(t *testing.T) {
	t.Parallel()
	api := started(t)
	posted[wire.Source](t, api, "/sources", inventorySource())
	wide := strings.Repeat("noise ", 5_000)
	in, out := io.Pipe()
	go func() {
		fmt.Fprint(out, "serial,noise,os,release,owner,site,ram\n")
		for i := range 10_000 {
			if _, err := fmt.Fprintf(out, "S-%d,%s,linux,12.%d,,R,16\n", i, wide, i%40); err != nil {
				return
			}
		}
		out.Close()
	}()
	run, refused := send(t, api, "inventory", in, true)
	if refused != nil || run.State != "waiting" || run.Report.New != 10_000 {
		t.Errorf("%v %s %+v", refused, run.State, run.Report)
	}
}

func TestTablesAreForAdministratorsAndTheirSources(t *testing.T) {
	t.Parallel()
	api := started(t)
	posted[wire.Source](t, api, "/sources", inventorySource())
	posted[wire.Source](t, api, "/sources", []byte(hrSource))
	for name, c := range map[string]struct {
		api    *client.Client
		source string
		status int
	}{
		"nobody": {&client.Client{Base: api.Base}, "inventory", http.StatusUnauthorized}, "no such source": {api, "none", http.StatusNotFound},
		"another kind": {api, "hr", http.StatusConflict},
	} {
		if _, refused := send(t, c.api, c.source, strings.NewReader(tableHeader), false); refused == nil || refused.Status != c.status {
			t.Errorf("%s: %+v", name, refused)
		}
	}
	if _, err := client.Post[wire.SourceRun](context.Background(), api, "/sources/inventory/take", nil); err == nil {
		t.Error("nothing was taken")
	}
	if run := sent(t, api, ""); run.Report.New != 0 {
		t.Errorf("a table without rows: %+v", run)
	}
}

// BenchmarkTable sends 100,000 laptops, takes them, and sends them again.
func BenchmarkTable(b *testing.B) {
	var text strings.Builder
	text.WriteString(tableHeader)
	for i := range 100_000 {
		fmt.Fprintf(&text, "S-%06d,%s,12.%d,,R,%d\n", i, []string{"linux", "windows", "macos"}[i%3], i%40, 8<<(i%3))
	}
	for b.Loop() {
		api := started(b)
		posted[wire.Source](b, api, "/sources", inventorySource())
		if run, refused := send(b, api, "inventory", strings.NewReader(text.String()), true); refused != nil || run.Report.New != 100_000 {
			b.Fatal(refused, run.Report)
		}
		posted[wire.SourceRun](b, api, "/sources/inventory/take", nil)
		if run, refused := send(b, api, "inventory", strings.NewReader(text.String()), false); refused != nil || run.Report.Same != 100_000 {
			b.Fatal(refused, run.Report)
		}
	}
}
