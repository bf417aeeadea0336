// This file has what somebody wants to be told, and what they were told.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerAnnouncements() {
	huma.Register(
		s.api, operation("ownAnnouncements", http.MethodGet, "/announcements",
			"What you want to be told, how, and what you were told last"), s.ownAnnouncements,
	)
	huma.Register(
		s.api,
		operation("chooseAnnouncements", http.MethodPut, "/announcements", "Choose what you want to be told, by e-mail or by a webhook"),
		s.chooseAnnouncements,
	)
}

// ownAnnouncements handles the operation ownAnnouncements: what somebody wants to be told, and was told.
func (s *server) ownAnnouncements(ctx context.Context, _ *struct{}) (*output[wire.Announcements], error) {
	by := actorOf(ctx)
	choices, sent, err := s.Flow.OwnAnnouncements(ctx, by)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	w := wire.Announcements{
		AnnouncementChoices: wire.AnnouncementChoices{Mail: list(choices.Mail), Webhook: list(choices.Webhook), Hook: choices.Hook},
		Topics:              workflow.Topics, Sent: []wire.SentAnnouncement{}, PublicKey: s.HookKey, SendsMail: s.SendsMail,
		Address: s.Flow.AddressOf(by.Name),
	}
	for _, a := range sent {
		w.Sent = append(w.Sent, wire.SentAnnouncement{Topic: a.Topic, Channel: a.Channel, Title: a.Title, Path: a.Path, At: a.At,
			State: a.State, Fault: a.Fault})
	}
	return &output[wire.Announcements]{w}, nil
}

// chooseAnnouncements handles the operation chooseAnnouncements: choose what one wants to be told.
func (s *server) chooseAnnouncements(ctx context.Context,
	in *struct{ Body wire.AnnouncementChoices }) (*output[wire.Announcements], error) {
	c := workflow.AnnouncementChoices{Mail: in.Body.Mail, Webhook: in.Body.Webhook, Hook: in.Body.Hook}
	if err := s.Flow.ChooseAnnouncements(ctx, actorOf(ctx), c); err != nil {
		return nil, s.fault(ctx, err)
	}
	return s.ownAnnouncements(ctx, nil)
}
