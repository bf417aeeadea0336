// This file has what was altered on laptops.

package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerDrift() {
	huma.Register(s.api, operation("drift", http.MethodGet, "/drift",
		"What was altered on laptops, and what is put right again and again"), s.drift)
}

// drift handles the operation drift.
func (s *server) drift(ctx context.Context, in *struct {
	Device  string    `query:"device" maxLength:"128"`
	Setting string    `query:"setting" maxLength:"128"`
	Since   time.Time `query:"since" doc:"What was altered at this moment or later"`
	Limit   int       `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Drift], error) {
	d, err := s.Flow.Drift(ctx, actorOf(ctx), store.DriftFilter{Device: in.Device, Setting: in.Setting, Since: in.Since}, in.Limit)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	t := titlesOf(s.Flow.Live().Side)
	out := wire.Drift{Records: t.driftRecords(d.Records), Fights: t.fights(d.Fights)}
	return &output[wire.Drift]{out}, nil
}

func (t titled) driftRecords(list []store.Drift) []wire.DriftRecord {
	out := make([]wire.DriftRecord, len(list))
	for i, d := range list {
		out[i] = wire.DriftRecord{
			Device: d.Device, Setting: d.Setting, Title: t.setting(setting.ID(d.Setting)), At: d.At, Found: value(d.Found),
			Wanted: value(d.Wanted), By: d.By,
			Repaired: d.Repaired, Policies: append([]string{}, d.Policies...),
		}
	}
	return out
}

func (t titled) fights(list []workflow.Fight) []wire.Fight {
	out := make([]wire.Fight, len(list))
	for i, f := range list {
		out[i] = wire.Fight{Setting: f.Setting, Title: t.setting(setting.ID(f.Setting)), Policies: append([]string{}, f.Policies...),
			Devices: f.Devices, Times: f.Times}
	}
	return out
}
