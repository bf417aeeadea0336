// This file has the resources of devices, and the device management endpoint.

package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/enrolment"
	"zenithridge.example/zridge/service/workflow"
)

type deviceQuery struct {
	Text    string   `query:"q" maxLength:"200" doc:"Words that are all in it: id, serial, owner, model, release, units, tags, facts"`
	Unit    string   `query:"unit" doc:"This unit or below"`
	OS      string   `query:"os" enum:"linux,windows,macos"`
	Group   string   `query:"group"`
	State   string   `query:"state" enum:"silent,never-seen,failed,pending,conflict,problem"`
	Where   []string `query:"where,explode" doc:"Conditions, all of which must hold: os=linux|macos, facts/ram_gb>=16, os_version<12, tags~field, edition?, edition!?" maxItems:"20"`
	Columns []string `query:"columns" doc:"Fields that are given besides" maxItems:"60"`
	Sort    string   `query:"sort" maxLength:"200" doc:"A field; with - in front the other way round" default:"id"`
	Cursor  string   `query:"cursor"`
	Limit   int      `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type deviceID struct {
	ID string `path:"id"`
}

type retried struct {
	Settings int `json:"settings" doc:"That will be tried again"`
}

type enrolmentInput struct {
	Body struct {
		Devices []string `json:"devices" minItems:"1" maxItems:"10000"`
	}
}

func (s *server) registerDevices() {
	huma.Register(
		s.api,
		operation("checkInNow", http.MethodPost, "/devices/{id}/check-in", "Tell a laptop to check in now", needs(access.Devices)),
		s.checkInNow,
	)
	huma.Register(s.api, operation("listDevices", http.MethodGet, "/devices", "Devices with their state"), s.listDevices)
	huma.Register(s.api, operation("getDevice", http.MethodGet, "/devices/{id}", "All that is known of a device"), s.getDevice)
	huma.Register(
		s.api,
		operation("retryDevice", http.MethodPost, "/devices/{id}/retry", "Try again what failed, at the "+
			"next check-in", needs(access.Devices)),
		s.retryDevice,
	)
	huma.Register(
		s.api,
		operation(
			"offerEnrolment",
			http.MethodPost,
			"/enrolment-codes",
			"One-time codes with which devices enrol",
			needs(access.Devices),
			status(http.StatusCreated),
		),
		s.offerEnrolment,
	)
	huma.Register(
		s.api,
		operation(
			"withdrawEnrolment",
			http.MethodDelete,
			"/enrolment-codes/{id}",
			"Make the unused enrolment code of a device void",
			needs(access.Devices),
			status(http.StatusNoContent),
		),
		s.withdrawEnrolment,
	)
}

// appliedOn lists the policies that apply to a device, with how many of their entries are in effect
// there.
func appliedOn(live *workflow.Live, r *outcome.Result) []wire.AppliedPolicy {
	inEffect := map[estate.PolicyID]int{}
	for i := range r.Settings {
		for _, c := range r.Settings[i].Candidates {
			if c.Fate == outcome.Won {
				inEffect[c.Policy]++
			}
		}
	}
	out := []wire.AppliedPolicy{}
	for _, p := range live.Plan.Applied(r) {
		out = append(out, wire.AppliedPolicy{ID: string(p.ID), Title: p.Title, InEffect: inEffect[p.ID], Entries: len(p.Entries)})
	}
	return out
}

// body reads a request's body up to a limit, and answers when it is longer, with a status, or can't
// be read in time.
func body(c *gin.Context, limit int64, longer int) ([]byte, bool) {
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, limit))
	if err == nil {
		return data, true
	}
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		writeProblem(c.Writer, problemOf(longer, "too-large", fmt.Sprintf("found more than %d bytes", limit)))
	} else {
		writeProblem(c.Writer, problemOf(http.StatusBadRequest, "faults", "the body could not be read to its end"))
	}
	return nil, false
}

// deviceManagement takes one message of a device management session.
func (s *server) deviceManagement(c *gin.Context) {
	if kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type")); err != nil || kind != syncml.ContentType {
		writeProblem(
			c.Writer,
			problemOf(
				http.StatusUnsupportedMediaType,
				"wrong-content-type",
				"found "+problem.Quote(c.GetHeader("Content-Type"))+", expected "+syncml.ContentType,
			),
		)
		return
	}
	data, ok := body(c, syncml.MaxMessage, http.StatusBadRequest)
	if !ok {
		return
	}
	from, err := s.senderOf(c)
	if err != nil {
		writeProblem(c.Writer, problemOf(http.StatusForbidden, "forbidden", err.Error()))
		return
	}
	answer, err := s.CheckIn.Answer(c.Request.Context(), data, from)
	var bad *syncml.SyntaxError
	if errors.Is(err, checkin.ErrOtherDevice) {
		writeProblem(c.Writer, problemOf(http.StatusForbidden, "forbidden", "The message names another device than the certificate."))
		return
	}
	if errors.As(err, &bad) {
		writeProblem(c.Writer, problemOf(http.StatusBadRequest, "faults", bad.Error()))
		return
	}
	if err != nil {
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
		return
	}
	c.Data(http.StatusOK, syncml.ContentType+"; charset=utf-8", answer)
}

// senderOf says who sends a message: the laptop of the connection's certificate, or, where laptops may still
// use secrets, whoever the message says. The error says why the certificate does not count, or that there is
// none.
func (s *server) senderOf(c *gin.Context) (checkin.Sender, error) {
	ctx := c.Request.Context()
	from := checkin.Sender{Address: originOf(ctx).Address, MAC: c.GetHeader(syncml.MACHeader)}
	if s.Enrolment == nil {
		return from, nil
	}
	at := originOf(ctx)
	if s.BySecret && at.Certificate == nil && at.CertificateFault == nil {
		return from, nil
	}
	certificate, err := s.certificateOf(ctx)
	if err != nil {
		return from, err
	}
	from.Certificate = enrolment.SerialOf(certificate)
	from.Device, _ = s.Enrolment.Check(certificate)
	return from, s.Enrolment.Heard(ctx, certificate)
}

// enrol takes a laptop in by a secret.
func (s *server) enrol(c *gin.Context) {
	if !s.BySecret {
		writeProblem(c.Writer, problemOf(http.StatusForbidden, "forbidden", "Laptops enrol by certificate (EST, RFC 7030) under "+estPath))
		return
	}
	data, ok := body(c, 16<<10, http.StatusRequestEntityTooLarge)
	if !ok {
		return
	}
	var in struct{ Code, Device, Serial string }
	if err := json.Unmarshal(data, &in); err != nil {
		writeProblem(
			c.Writer,
			problemOf(http.StatusBadRequest, "faults", "found a body that is no such JSON, expected code, device and serial as texts"),
		)
		return
	}
	e, err := s.CheckIn.Enrol(c.Request.Context(), in.Code, in.Device, in.Serial, originOf(c.Request.Context()).Address)
	if errors.Is(err, checkin.ErrRefused) {
		writeProblem(
			c.Writer,
			problemOf(http.StatusForbidden, "refused", "the enrolment code is unknown, used or expired, or made for another "+
				"device or serial"),
		)
		return
	}
	if err != nil {
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
		return
	}
	c.JSON(http.StatusCreated, e)
}

// listDevices handles the operation listDevices: devices with their state.
func (s *server) listDevices(ctx context.Context, in *deviceQuery) (*output[wire.Page[wire.Device]], error) {
	list, err := s.Flow.Devices(ctx, actorOf(ctx),
		workflow.DeviceFilter{Text: in.Text, Where: in.Where, Unit: in.Unit, OS: in.OS, Group: in.Group, State: in.State, Sort: in.Sort},
	)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	if err := known(list, in.Columns); err != nil {
		return nil, s.fault(ctx, err)
	}
	now := s.Clock.Now()
	page, err := pagedRows(list.Len(), in.Cursor, in.Limit, func(i int) wire.Device {
		row := list.Row(i)
		d := deviceOf(&row, now)
		d.Fields = columnsOf(list, i, in.Columns)
		return d
	})
	return out(page, s.fault(ctx, err))
}

// getDevice handles the operation getDevice: all that is known of a device.
func (s *server) getDevice(ctx context.Context, in *deviceID) (*output[wire.DevicePage], error) {
	page, err := s.Flow.Device(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := devicePage(&page, s.Clock.Now())
	t := titlesOf(s.Flow.Live().Side)
	w.Drift = t.driftRecords(page.Drift)
	w.Baselines = make([]wire.LaptopCompliance, len(page.Baselines))
	for i := range page.Baselines {
		b, _ := s.Flow.Live().Plan.Snapshot().Object(estate.KindBaseline, page.Baselines[i].Baseline).(estate.Baseline)
		w.Baselines[i] = t.laptopCompliance(&page.Baselines[i], b.Title)
	}
	live, err := s.Flow.LiveFor(ctx, actorOf(ctx))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w.Applies = appliedOn(live, page.Result)
	w.Groups = membershipsWire(live.Plan.Snapshot().Groups, page.Groups)
	w.Exceptions = exceptionsWire(workflow.View{Side: live.Side, Live: live}, page.Exceptions)
	return &output[wire.DevicePage]{w}, nil
}

// retryDevice handles the operation retryDevice: try again what failed, at the next check-in.
func (s *server) retryDevice(ctx context.Context, in *deviceID) (*output[retried], error) {
	n, err := s.Flow.Retry(ctx, actorOf(ctx), in.ID)
	return out(retried{n}, s.fault(ctx, err))
}

// withdrawEnrolment handles the operation withdrawEnrolment: make the unused enrolment code of a
// device void.
func (s *server) withdrawEnrolment(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*struct{}, error) {
	return nil, s.fault(ctx, s.CheckIn.WithdrawCode(ctx, actorOf(ctx), in.ID))
}

// offerEnrolment handles the operation offerEnrolment: one-time codes with which devices enrol.
func (s *server) offerEnrolment(ctx context.Context, in *enrolmentInput) (*output[[]wire.EnrolmentCode], error) {
	codes, err := s.CheckIn.OfferCodes(ctx, actorOf(ctx), in.Body.Devices)
	list := make([]wire.EnrolmentCode, len(codes))
	for i, c := range codes {
		list[i] = wire.EnrolmentCode(c)
	}
	return out(list, s.fault(ctx, err))
}

// checkInNow handles the operation checkInNow: tell a laptop to check in now.
func (s *server) checkInNow(ctx context.Context, in *deviceID) (*output[wire.Told], error) {
	told, err := s.CheckIn.CheckInNow(ctx, actorOf(ctx), in.ID)
	return out(wire.Told{Told: told}, s.fault(ctx, err))
}
