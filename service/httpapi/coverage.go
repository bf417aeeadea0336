// This file has how far laptops are encrypted with a key that can be found again, and to whom keys are sealed.

package httpapi

import (
	"bytes"
	"context"
	"encoding/csv"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerCoverage() {
	operator := needs(access.Service)
	huma.Register(
		s.api,
		operation("coverage", http.MethodGet, "/coverage", "How far laptops are encrypted with a key that can be found again, by unit"),
		s.coverage,
	)
	huma.Register(
		s.api,
		operation("coveredLaptops", http.MethodGet, "/coverage/laptops", "The laptops of a group of coverage"),
		s.coveredLaptops,
	)
	huma.Register(
		s.api,
		operation("coverageDays", http.MethodGet, "/coverage/days", "How far the laptops of a unit were covered, day by day"),
		s.coverageDays,
	)
	huma.Register(
		s.api,
		operation("recoveryFindings", http.MethodGet, "/coverage/findings", "What has to be looked at about recovery keys"),
		s.recoveryFindings,
	)
	huma.Register(
		s.api,
		operation(
			"coverageReport", http.MethodGet, "/coverage/report",
			"Coverage as a page, for auditors", answers("text/markdown", "text/html", "text/csv"),
		),
		s.coverageReport,
	)
	huma.Register(
		s.api,
		operation("listRecipients", http.MethodGet, "/escrow-recipients", "To whom recovery keys are sealed, with how far that is"),
		s.listRecipients,
	)
	huma.Register(
		s.api,
		operation(
			"addRecipient", http.MethodPost, "/escrow-recipients",
			"Register an escrow recipient, or make one of the service", operator, recently, status(http.StatusCreated),
		),
		s.addRecipient,
	)
	huma.Register(
		s.api,
		operation(
			"replaceRecipient", http.MethodPut, "/escrow-recipients/{recipient}",
			"Say by which day another takes the place of an escrow recipient", operator, status(http.StatusNoContent),
		),
		s.replaceRecipient,
	)
	huma.Register(
		s.api,
		operation(
			"destroyRecipient", http.MethodDelete, "/escrow-recipients/{recipient}",
			"Destroy the private half of an escrow recipient that nothing needs any more", operator, recently, status(http.StatusNoContent),
		),
		s.destroyRecipient,
	)
}

func countsWire(c *recovery.Counts) wire.CoverageCounts {
	return wire.CoverageCounts{
		All: c.Of(recovery.All), Demanded: c.Of(recovery.Demanded), Encrypted: c.Of(recovery.AllEncrypted), Escrowed: c.Of(recovery.Escrowed),
		NotEscrowed: c.Of(recovery.NotEscrowed), NotEncrypted: c.Of(recovery.NotEncrypted), Cannot: c.Of(recovery.Unable),
		NeverReported: c.Of(recovery.NeverReported), NotRenewed: c.Of(recovery.NotRenewed), TooOld: c.Of(recovery.TooOld),
		NotResealed: c.Of(recovery.OtherSeal),
	}
}

// coverage handles the operation coverage.
func (s *server) coverage(ctx context.Context, _ *struct{}) (*output[[]wire.UnitCoverage], error) {
	units, err := s.Flow.Coverage(ctx, actorOf(ctx))
	plan := s.Flow.Live().Plan
	list := make([]wire.UnitCoverage, len(units))
	for i := range units {
		is := unitNamed(plan, units[i].Unit)
		list[i] = wire.UnitCoverage{Unit: is.ID, Title: is.Title, Depth: units[i].Depth, Counts: countsWire(&units[i].Counts)}
	}
	return out(list, s.fault(ctx, err))
}

// coveredLaptops handles the operation coveredLaptops.
func (s *server) coveredLaptops(ctx context.Context, in *struct {
	Unit   string `query:"unit" maxLength:"128" doc:"This unit with what is below it"`
	Group  string `query:"group" enum:"all,demanded,encrypted,escrowed,not-escrowed,not-encrypted,cannot,never-reported,not-renewed,too-old,not-resealed"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.CoveredLaptop]], error) {
	rows, err := s.Flow.CoveredLaptops(ctx, actorOf(ctx), estate.UnitID(in.Unit), recovery.Group(in.Group))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	plan := s.Flow.Live().Plan
	page, err := paged(rows, in.Cursor, in.Limit, func(r workflow.CoveredLaptop) wire.CoveredLaptop {
		w := wire.CoveredLaptop{
			Device: string(r.Device.ID), Model: r.Device.Model, Owner: personNamed(plan, r.Device.Owner), Unit: unitNamed(plan, r.Unit),
			Groups:  []string{},
			Volumes: volumesWire(r.Volumes), KeySince: moment(r.Since), UsedAt: moment(r.Used), SeenAt: moment(r.Seen),
		}
		for _, g := range recovery.Groups {
			if r.In.In(g) {
				w.Groups = append(w.Groups, string(g))
			}
		}
		return w
	})
	return out(page, s.fault(ctx, err))
}

// coverageDays handles the operation coverageDays.
func (s *server) coverageDays(ctx context.Context, in *struct {
	Unit string `query:"unit" maxLength:"128" doc:"Absent: the whole company"`
	Days int    `query:"days" minimum:"1" maximum:"1000" default:"90"`
}) (*output[[]wire.CoverageDay], error) {
	days, err := s.Flow.CoverageDays(ctx, actorOf(ctx), estate.UnitID(in.Unit), in.Days)
	list := make([]wire.CoverageDay, len(days))
	for i := range days {
		list[i] = wire.CoverageDay{Day: days[i].Day, Counts: countsWire(&days[i].Counts)}
	}
	return out(list, s.fault(ctx, err))
}

// recoveryFindings handles the operation recoveryFindings.
func (s *server) recoveryFindings(ctx context.Context, _ *struct{}) (*output[[]wire.RecoveryFinding], error) {
	found, err := s.Flow.RecoveryFindings(ctx, actorOf(ctx))
	list := make([]wire.RecoveryFinding, len(found))
	for i, f := range found {
		list[i] = wire.RecoveryFinding{Code: f.Code, Laptops: f.Laptops, Devices: wire.Names(f.Devices), What: f.What, Day: f.Day}
	}
	return out(list, s.fault(ctx, err))
}

// coverageReport handles the operation coverageReport.
func (s *server) coverageReport(ctx context.Context, in *struct {
	Unit   string `query:"unit" maxLength:"128" doc:"This unit with what is below it"`
	Format string `query:"format" enum:"markdown,html,csv" default:"markdown"`
}) (*reportOutput, error) {
	by := actorOf(ctx)
	rows, err := s.Flow.CoveredLaptops(ctx, by, estate.UnitID(in.Unit), recovery.All)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	live := s.Flow.Live()
	about := report.Coverage{Day: s.Clock.Now().Format(time.DateOnly), By: by.Name, Laptops: make([]report.CoveredLaptop, len(rows))}
	for i := range rows {
		r := &rows[i]
		owner := ""
		if n := personNamed(live.Plan, r.Device.Owner); n != nil {
			owner = n.Title
		}
		about.Laptops[i] = report.CoveredLaptop{
			Device: string(r.Device.ID), Model: r.Device.Model, Owner: owner, Unit: unitNamed(live.Plan, r.Unit).Title, In: r.In,
			Volumes: r.Volumes, Since: r.Since,
			Used: r.Used, Seen: r.Seen,
		}
	}
	units, err := s.Flow.Coverage(ctx, by)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	for _, u := range units {
		if in.Unit == "" || in.Unit == string(u.Unit) {
			about.Units = append(about.Units, report.CoveredUnit{Title: unitNamed(live.Plan, u.Unit).Title, Counts: u.Counts})
		}
	}
	s.recordExport(ctx, "coverage of recovery keys")
	r := &reportOutput{Policy: report.PagePolicy}
	extension := "md"
	switch in.Format {
	case "csv":
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		err = w.WriteAll(about.Rows())
		r.Type, r.Body, extension = "text/csv; charset=utf-8", b.Bytes(), "csv"
	case "html":
		r.Type, r.Body, extension = "text/html; charset=utf-8", []byte(about.Document().HTML()), "html"
	default:
		r.Type, r.Body = "text/markdown; charset=utf-8", []byte(about.Document().Markdown())
	}
	r.Disposition = `inline; filename="coverage-` + about.Day + "." + extension + `"`
	return r, s.fault(ctx, err)
}

// listRecipients handles the operation listRecipients.
func (s *server) listRecipients(ctx context.Context, _ *struct{}) (*output[[]wire.EscrowRecipient], error) {
	rows, err := s.Flow.Recipients(ctx, actorOf(ctx))
	list := make([]wire.EscrowRecipient, len(rows))
	for i := range rows {
		list[i] = recipientWire(&rows[i])
	}
	return out(list, s.fault(ctx, err))
}

func recipientWire(r *workflow.Recipient) wire.EscrowRecipient {
	return wire.EscrowRecipient{
		Recipient: r.Recipient, Title: r.Title, Holder: r.Holder, Usable: r.Usable, MadeAt: moment(r.MadeAt), MadeBy: r.MadeBy,
		ReplaceOn:   r.ReplaceOn,
		DestroyedAt: r.DestroyedAt, DestroyedBy: r.DestroyedBy, Named: r.Named, Keys: r.Keys, Alone: r.Alone, Earlier: r.Earlier,
		Blocks: r.Blocks,
	}
}

// addRecipient handles the operation addRecipient.
func (s *server) addRecipient(ctx context.Context, in *struct{ Body wire.NewRecipient }) (*output[wire.EscrowRecipient], error) {
	row, err := s.Flow.AddRecipient(ctx, actorOf(ctx), workflow.NewRecipient{Title: in.Body.Title, Recipient: in.Body.Recipient,
		ReplaceOn: in.Body.ReplaceOn})
	return out(recipientWire(&workflow.Recipient{EscrowRecipient: row}), s.fault(ctx, err))
}

// replaceRecipient handles the operation replaceRecipient.
func (s *server) replaceRecipient(ctx context.Context, in *struct {
	Recipient string `path:"recipient" maxLength:"200"`
	Body      wire.RecipientReplacement
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.ReplaceRecipient(ctx, actorOf(ctx), in.Recipient, in.Body.ReplaceOn))
}

// destroyRecipient handles the operation destroyRecipient.
func (s *server) destroyRecipient(ctx context.Context, in *struct {
	Recipient string `path:"recipient" maxLength:"200"`
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.Flow.DestroyRecipient(ctx, actorOf(ctx), in.Recipient))
}
