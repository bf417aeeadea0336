// This file asks a laptop what it knows of itself.

package checkin

import (
	"context"
	"slices"
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/workflow"
)

const (
	factsEach    = 24 * time.Hour // between two times that a laptop is asked
	maxFactText  = 200            // bytes
	everyFact    = "*"
	osVersion    = "os_version" // facts that every device has as fields of its own
	editionFact  = "edition"
	modelFact    = "model"
	factsAtOnce  = 60 // in the first message: there are few that matter
	factQuestion = 200
)

// askFacts asks for the facts that some rule looks at, once a day, and after the laptop lost all that it had. A
// laptop without a certificate is not asked, nor one whose messages are too short for it.
func (s *session) askFacts(out *syncml.Message) {
	now := s.server.clock()
	asked := s.laptop.FactsAt
	if !s.certain || asked != nil && now.Sub(*asked) < factsEach && s.laptop.Revision != "" {
		return
	}
	names := append(s.live.Plan.FactsNeeded(), osVersion, editionFact, modelFact)
	names = slices.DeleteFunc(names, func(name string) bool {
		return slices.Contains(s.server.withheld, name) || slices.Contains(s.server.withheld, everyFact)
	})
	if len(names) > factsAtOnce || len(names)*factQuestion > s.free(out) {
		return
	}
	for _, name := range names {
		out.Commands = append(out.Commands, get(syncml.FactPath+name))
	}
	s.facts = names
}

// hearFacts takes what the laptop says of itself. What that alters is live when it returns.
func (s *session) hearFacts(ctx context.Context) error {
	if s.facts == nil {
		return nil
	}
	said := workflow.Facts{Others: map[string]setting.Value{}}
	for _, name := range s.facts {
		r := s.results[syncml.FactPath+name]
		if r == nil || r.more {
			continue // the laptop does not know
		}
		v, err := syncml.ReadValue(string(r.data), r.meta)
		if err != nil || len(r.data) > maxFactText || v.Kind() > setting.Text {
			s.server.log.Warn("what a laptop says of itself can't be understood", "device", s.device, "fact", name)
			continue
		}
		switch name {
		case osVersion:
			said.OSVersion = v.Text()
		case editionFact:
			said.Edition = v.Text()
		case modelFact:
			said.Model = v.Text()
		default:
			said.Others[name] = v
		}
	}
	now := s.server.clock()
	s.laptop.FactsAt = &now
	altered, err := s.server.flow.TellFacts(ctx, s.device, said)
	if err != nil || !altered {
		return err
	}
	return s.loadAnew(ctx)
}

// loadAnew goes on with what is live now, which is otherwise than when the session began.
func (s *session) loadAnew(ctx context.Context) error {
	s.live = s.server.flow.Live()
	s.revision = s.server.flow.RevisionFor(s.live, s.device)
	s.deliveries = nil
	return s.load(ctx)
}
