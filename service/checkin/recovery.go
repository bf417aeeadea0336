// This file takes recovery keys from laptops, and asks for new ones.

package checkin

import (
	"context"
	"errors"

	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/workflow"
)

// storeKey stores a sealed key. OK means that it is on the disk: the laptop may use it then.
func (s *session) storeKey(ctx context.Context, data string) (code string) {
	key, err := syncml.ReadSealedKey(data)
	if err == nil {
		err = s.server.flow.StoreKey(ctx, s.device, &key)
	} else {
		err = &workflow.UnfitKeyError{Text: err.Error()}
	}
	return s.keyCode("a recovery key is not stored", err)
}

// takeVolumes takes what the laptop reports of its volumes.
func (s *session) takeVolumes(ctx context.Context, data string) (code string) {
	volumes, err := syncml.ReadVolumes(data)
	if err == nil {
		err = s.server.flow.TakeVolumes(ctx, s.device, volumes)
	} else {
		err = &workflow.UnfitKeyError{Text: err.Error()}
	}
	return s.keyCode("what a laptop reports of its volumes is not taken", err)
}

func (s *session) keyCode(what string, err error) (code string) {
	if err == nil {
		return syncml.OK
	}
	s.server.log.Warn(what, "device", s.device, "error", err)
	var unfit *workflow.UnfitKeyError
	if errors.As(err, &unfit) {
		return syncml.BadRequest
	}
	return syncml.Failed
}

// askRenewals asks for other keys in the place of those that were shown. The laptop is asked again until it says that
// another one is in force.
func (s *session) askRenewals(ctx context.Context, out *syncml.Message) error {
	due, err := s.server.flow.RenewalsDue(ctx, s.device)
	for _, id := range due {
		out.Commands = append(out.Commands, syncml.Command{
			Name: "Exec", Items: []syncml.Item{{Target: syncml.RecoveryKeyPath + string(id), Meta: syncml.Meta{Format: syncml.FormatNull}}},
		})
	}
	return err
}
