// This file implements `zridge demo`: the service with the demo estate, a past, and simulated laptops.

package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo"
	"zenithridge.example/zridge/demo/scenario"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/escrow"
)

// The demo's accounts. They are for a service on loopback that holds made-up data.
const (
	demoName     = "ines.okafor"
	demoClerk    = "wren.tallack"
	demoPassword = "larkfell-demo"
	demoReader   = "tomas.reyes"
)

func demoCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "run the service with the demo estate and simulated laptops", ArgsUsage: " ",
		Description: "Everything stays in the folder that --folder names; take the folder away to begin anew. The demo begins with " +
			"nine days\n" +
			"behind it: rollouts are under way, and an approval waits. With --speed its clock goes faster than real time:\n" +
			"at 960 a day takes a minute and a half.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8470", Usage: "`HOST:PORT` to listen on"},
			&cli.StringFlag{Name: "folder", Value: ".demo", Usage: "`FOLDER` of the demo's database"},
			&cli.StringFlag{
				Name:  "secrets",
				Usage: "`FOLDER` with the passwords that sources need, a file each, and the file destinations: HOST:PORT PASSWORD",
			},
			&cli.StringFlag{Name: "estate", Usage: "estate `FOLDER` to begin with, instead of the demo estate " +
				"and its past", TakesFile: true},
			&cli.IntFlag{Name: "laptops", Value: 240, Usage: "`NUMBER` of simulated laptops"},
			&cli.DurationFlag{Name: "interval", Value: 6 * time.Second,
				Usage: "real `TIME` between two check-ins of a laptop; boats take eight of them"},
			&cli.BoolFlag{
				Name: "real-laptop", Value: true,
				Usage: "run the agent in a copy of this machine's root, as one of the laptops, where the machine allows it; " +
					"--real-laptop=false runs none",
			},
			&cli.FloatFlag{Name: "speed", Value: 1, Usage: "how many times faster than real time the demo's clock goes, as a " +
				"`FACTOR` from 1 to 10000"},
		},
		Action: func(ctx context.Context, c *cli.Command) error { return runDemo(ctx, c, s) },
	}
}

// demoRun is a demo that is being started.
type demoRun struct {
	folder  string
	clock   service.Clock
	api     *client.Client // the administrator
	fleet   *endpoint.Fleet
	out     io.Writer
	devices map[string]wire.Device // by id
}

func runDemo(ctx context.Context, c *cli.Command, s Streams) error {
	debug.SetGCPercent(collectAt)
	if host, _, err := net.SplitHostPort(c.String("listen")); err != nil || host != "localhost" && !net.ParseIP(host).IsLoopback() {
		return usage(
			"demo: found %s, expected an address on loopback such as 127.0.0.1:8470: the demo's passwords are published",
			problem.Quote(c.String("listen")),
		)
	}
	speed := c.Float("speed")
	if !(speed >= 1 && speed <= 10_000) {
		return usage("demo: found the speed %v, expected 1 to 10000", speed)
	}
	d := &demoRun{folder: c.String("folder"), out: s.Out}
	database := filepath.Join(d.folder, "zridge.db")
	begin, remove, err := demoEstate(c.String("estate"))
	if err != nil {
		return err
	}
	defer remove()
	if err := os.MkdirAll(d.folder, 0o700); err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(d.folder, "service.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	d.clock.Set(d.lastShown(), speed)
	if _, err := os.Stat(database); errors.Is(err, fs.ErrNotExist) && c.String("estate") == "" { // a new one begins before its past
		d.clock.Set(time.Now().Add(-scenario.Days*24*time.Hour-time.Hour), 1)
	}
	real, why := noLaptop, ""
	if c.Bool("real-laptop") && c.String("estate") == "" {
		if real, err = startRealLaptop(ctx, d.folder); err != nil {
			real, why = noLaptop, err.Error()
		}
	}
	defer real.stop()
	running, err := service.Start(
		service.Config{
			Address:  c.String("listen"),
			More:     real.listeners,
			Database: database,
			Secrets:  c.String("secrets"),
			Day:      estate.Date(demo.Day),
			Log:      slog.New(slog.NewTextHandler(logFile, nil)),
			Clock:    &d.clock,
			Escrow:   escrow.Config{Known: []string{demo.EscrowIdentity()}},
		},
	)
	if err != nil {
		return err
	}
	stopped := make(chan error, 1)
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { stopped <- running.Wait(inner) }()
	fail := func(err error) error { cancel(); return errors.Join(err, <-stopped) }

	d.api = &client.Client{Base: running.Address}
	d.fleet = &endpoint.Fleet{
		Base: running.Address, Interval: c.Duration("interval"), Shares: endpoint.Shares{Slow: 3, Offline: 2, Refusing: 1, Taking: 40},
	}
	ids, err := d.prepare(ctx, c, running, begin)
	if err != nil {
		err = fail(err)
		if running.SetupCode != "" {
			for _, suffix := range []string{"", "-wal", "-shm"} { // half a demo would start empty the next time
				os.Remove(database + suffix)
			}
		}
		return err
	}
	if real != noLaptop {
		if ids, err = real.enrol(ctx, d.api, ids, database+".certificate.pem"); err != nil {
			why = err.Error()
		}
	}
	fmt.Fprintf(
		s.Out,
		"\n  Console   %s\n  Sign in   %s  /  %s   (administrator)\n            %s  /  %s   (publisher and approver)\n"+
			"            %s  /  %s   (reader)\n            %s  /  %s   (service desk of the boats and the workshop: recovery keys)\n"+
			"  Laptops   %d simulated, each checking in every %s or less often; what their locked screens show: %s\n"+
			"  Day       %s: exceptions are judged as on that day\n%s%s  Stop      Ctrl-C\n\n",
		running.Address, demoName, demoPassword, scenario.Author, demoPassword, demoReader, demoPassword, demoClerk, demoPassword,
		len(ids), c.Duration("interval"), d.screensFile(), demo.Day,
		real.line(why), speedLine(speed),
	)
	go d.fleet.Run(inner, ids)
	go d.keepShown(inner)
	err = <-stopped
	d.writeShown()
	fmt.Fprintln(s.Out, "stopped")
	return err
}

func speedLine(speed float64) string {
	if speed == 1 {
		return ""
	}
	return fmt.Sprintf("  Clock     %v times as fast as real time: a day takes %s\n", speed,
		(time.Duration(float64(24*time.Hour) / speed)).Round(time.Second))
}

// prepare fills a new demo, or looks at the laptops of one that is there.
func (d *demoRun) prepare(ctx context.Context, c *cli.Command, running *service.Running, begin string) ([]endpoint.Identity, error) {
	fresh := running.SetupCode != ""
	if fresh {
		if err := prepareDemo(ctx, d.api, running.SetupCode, begin, c.String("estate") != "", d.out); err != nil {
			return nil, err
		}
	}
	token, err := d.api.SignIn(ctx, demoName, demoPassword, "demo laptops", 1)
	if err != nil {
		return nil, err
	}
	d.api.Token = token.Secret
	ids, err := enrolled(ctx, d.api, filepath.Join(d.folder, "laptops.json"), c.Int("laptops"))
	if err != nil {
		return nil, err
	}
	list, err := client.All[wire.Device](ctx, d.api, "/devices", nil)
	if err != nil {
		return nil, err
	}
	devices := make(map[string]wire.Device, len(list))
	for _, l := range list {
		devices[l.ID] = l
	}
	d.devices = devices
	d.fleet.Pace = func(device string) float64 { return scenario.Pace(devices[device]) }
	d.fleet.Holds = func(device string) bool { return scenario.Pace(devices[device]) == 1 } // the others are seldom connected
	d.fleet.Lacks = func(device string) map[setting.ID]bool { return scenario.Lacks(devices[device]) }
	if fresh && c.String("estate") == "" {
		defer func() { d.clock.Set(time.Now(), c.Float("speed")) }()
	}
	if fresh && c.String("estate") == "" && len(ids) == len(devices) {
		err = d.play(ctx, running, ids, devices)
	}
	return ids, err
}

// play gives the demo its past.
func (d *demoRun) play(ctx context.Context, running *service.Running, ids []endpoint.Identity, devices map[string]wire.Device) error {
	fmt.Fprintln(d.out, "Playing the nine days before: laptops check in, changes are reviewed and rolled out")
	author := &client.Client{Base: d.api.Base}
	token, err := author.SignIn(ctx, scenario.Author, demoPassword, "demo", 1)
	if err != nil {
		return err
	}
	author.Token = token.Secret
	now := time.Now()
	stage := &scenario.Stage{
		Administrator: d.api, Author: author, Fleet: d.fleet, Laptops: ids, Devices: devices,
		Set: func(at time.Time) { d.clock.Set(at, 0) }, Settle: running.Settle,
	}
	if err := scenario.Play(ctx, stage, demoName, now); err != nil {
		return fmt.Errorf("playing the demo's past: %w", err)
	}
	return nil
}

// shownFile has the time that the clock of a demo showed last: it does not go back when the demo is
// started again.
func (d *demoRun) shownFile() string { return filepath.Join(d.folder, "clock.json") }

func (d *demoRun) lastShown() time.Time {
	var last time.Time
	if text, err := os.ReadFile(d.shownFile()); err == nil && json.Unmarshal(text, &last) == nil && last.After(time.Now()) {
		return last
	}
	return time.Now()
}

func (d *demoRun) writeShown() {
	if text, err := json.Marshal(d.clock.Now()); err == nil {
		os.WriteFile(d.shownFile(), text, 0o600) // without it the clock of the next demo begins with real time
	}
}

// screensFile has what the locked screens of the simulated laptops show: they have no screens to look at.
func (d *demoRun) screensFile() string { return filepath.Join(d.folder, "locked-screens.txt") }

func (d *demoRun) writeScreens() {
	screens := d.fleet.LockedScreens()
	text := "# What the locked screens of the simulated laptops show: the identifier of the recovery key. With the label of each.\n"
	for _, device := range slices.Sorted(maps.Keys(screens)) {
		l := d.devices[device]
		text += fmt.Sprintf("%s  %s  %-12s  %-14s  %s\n", device, screens[device].Spaced(), l.Serial, l.Model, l.OwnerName)
	}
	os.WriteFile(d.screensFile(), []byte(text), 0o600) // the demo goes on without it
}

// keepShown writes the clock down every few seconds, until the context ends.
func (d *demoRun) keepShown(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			d.writeShown()
			d.writeScreens()
		}
	}
}

// demoEstate gives the folder of the estate that the demo begins with, checked, and what removes it
// if it is a copy.
func demoEstate(given string) (folder string, remove func(), err error) {
	folder, remove = given, func() {}
	if given == "" {
		if folder, err = os.MkdirTemp("", "zridge-demo-"); err != nil {
			return "", nil, err
		}
		remove = func() { os.RemoveAll(folder) }
		if err := demo.Write(folder); err != nil {
			remove()
			return "", nil, err
		}
	}
	if _, err := files.Read(folder, dictionary.Shipped()); err != nil {
		remove()
		return "", nil, err
	}
	return folder, remove, nil
}

// prepareDemo makes the demo's accounts and publishes the estate of a folder; the demo's own with its
// rollout plans and approval rules.
func prepareDemo(ctx context.Context, api *client.Client, code, folder string, given bool, w io.Writer) error {
	if _, err := api.Call(
		ctx,
		http.MethodPost,
		"/setup",
		nil,
		wire.SetUp{Code: code, Name: demoName, Password: demoPassword},
		nil,
	); err != nil {
		return err
	}
	token, err := api.SignIn(ctx, demoName, demoPassword, "demo set-up", 1)
	if err != nil {
		return err
	}
	with := *api
	with.Token = token.Secret
	for _, account := range []wire.NewAccount{
		{Name: demoReader, Password: demoPassword, Role: "reader", Chosen: true},
		{Name: scenario.Author, Password: demoPassword, Role: "publisher", Chosen: true},
		{Name: demoClerk, Password: demoPassword, Chosen: true},
	} {
		if _, err := with.Call(ctx, http.MethodPost, "/accounts", nil, account, nil); err != nil {
			return err
		}
	}
	// The second person of the demo looks at changes of others, too.
	if _, err := client.Post[wire.Grant](ctx, &with, "/grants", wire.NewGrant{Account: scenario.Author, Role: "approver"}); err != nil {
		return err
	}
	result, err := importFolder(ctx, &with, folder, "The estate as it was found", false)
	if err != nil {
		return err
	}
	if _, err := client.Post[wire.Published](ctx, &with, client.Path("changes", result.Change, "publish"), nil); err != nil {
		return err
	}
	fmt.Fprintf(w, "Published the demo estate: %d objects\n", result.Created)
	if given {
		return nil
	}
	// Somebody of the service desk, for the boats and the workshop alone.
	for _, unit := range []string{"survey-fleet", "slipway"} {
		if _, err := client.Post[wire.Grant](ctx, &with, "/grants", wire.NewGrant{Account: demoClerk, Role: "service-desk",
			Unit: unit}); err != nil {
			return err
		}
	}
	due := time.Now().AddDate(0, 0, 45).Format(time.DateOnly)
	safe := wire.NewRecipient{Title: "Safe in the harbour office", Recipient: demo.CompanyRecipient, ReplaceOn: due}
	if _, err := client.Post[wire.EscrowRecipient](ctx, &with, "/escrow-recipients", safe); err != nil {
		return err
	}
	if err := demo.AddLater(folder); err != nil {
		return err
	}
	if result, err = importFolder(ctx, &with, folder, "How changes go to laptops, what people are offered, and what the audit wants",
		false); err != nil {
		return err
	}
	_, err = client.Post[wire.Published](ctx, &with, client.Path("changes", result.Change, "publish"), nil)
	return err
}
