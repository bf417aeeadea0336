// This file takes what a laptop says: its alerts, statuses and results.

package checkin

import (
	"context"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// receive takes the commands of a message and adds a status for each that wants one. It tells
// whether the laptop ends the session.
func (s *session) receive(ctx context.Context, m, out *syncml.Message) (aborted bool) {
	for i := range m.Commands {
		c := &m.Commands[i]
		code := ""
		switch c.Name {
		case "Status":
			if key := c.MsgRef + "/" + c.CmdRef; s.asked[key].Name != "" { // others mean nothing to us
				s.statuses[key] = c.Data
			}
		case "Results":
			code = s.receiveResults(c)
		case "Alert":
			code = syncml.OK
			aborted = aborted || c.Data == syncml.AlertAbort
			if c.Data == syncml.AlertGeneric {
				code = s.hear(ctx, c)
			}
		case "Replace":
			code = syncml.NotAllowed
			if isDevInfo(c) {
				code = syncml.OK
			}
		case "Get", "Add", "Delete", "Exec", "Copy", "Atomic", "Sequence":
			code = syncml.NotAllowed
		default:
			code = syncml.NotSupported
		}
		if code != "" {
			out.Commands = append(out.Commands, statusOf(m, c.CmdID, c.Name, code))
		}
	}
	return aborted
}

// hear takes what a laptop says by itself. It gives the status of the alert.
func (s *session) hear(ctx context.Context, c *syncml.Command) (code string) {
	if !s.noteDrifts(c) {
		return syncml.BadRequest
	}
	for _, item := range c.Items {
		code := syncml.OK
		switch item.Meta.Type {
		case syncml.RecoveryKeyType:
			code = s.storeKey(ctx, item.Data)
		case syncml.VolumesType:
			code = s.takeVolumes(ctx, item.Data)
		}
		if code != syncml.OK {
			return code
		}
	}
	return syncml.OK
}

// isDevInfo tells whether a laptop's Replace is the one that tells about itself.
func isDevInfo(c *syncml.Command) bool {
	return len(c.Items) > 0 && !slices.ContainsFunc(c.Items, func(i syncml.Item) bool {
		return !strings.HasPrefix(i.Source, "./DevInfo/") && !strings.HasPrefix(i.Source, "./DevDetail/")
	})
}

// receiveResults takes the values of one Results, which may be chunks of large objects.
func (s *session) receiveResults(c *syncml.Command) string {
	code := syncml.OK
	for _, item := range c.Items {
		if !s.wanted[item.Source] {
			return syncml.NotAllowed // nobody asked for it
		}
		meta := item.Meta
		if meta.Format == "" {
			meta.Format = c.Meta.Format
		}
		if meta.Type == "" {
			meta.Type = c.Meta.Type
		}
		have := s.results[item.Source]
		if have == nil || !have.more {
			have = &received{meta: meta, want: max(meta.Size, c.Meta.Size)}
			s.results[item.Source] = have
		}
		have.data = append(have.data, item.Data...)
		have.more = item.More
		switch {
		case len(have.data) > maxMessage:
			delete(s.results, item.Source)
			code = "416"
		case item.More:
			code = syncml.ChunkAccepted
		case have.want > 0 && have.want != len(have.data):
			delete(s.results, item.Source)
			code = syncml.SizeMismatch
		}
	}
	return code
}

func (s *session) value(path string) string {
	if r := s.results[path]; r != nil && !r.more {
		return string(r.data)
	}
	return ""
}

// reported gives what the laptop said of a setting; answered is false when it said nothing that can
// be understood. A node that it does not have is a setting that it leaves as it is.
func (s *session) reported(id setting.ID) (v setting.Value, answered bool) {
	if r := s.results[syncml.ReportedPath+string(id)]; r != nil && !r.more {
		v, err := syncml.ReadValue(string(r.data), r.meta)
		return v, err == nil
	}
	for key, c := range s.asked {
		if c.Name == "Get" && c.Items[0].Target == syncml.ReportedPath+string(id) && s.statuses[key] == syncml.NotFound {
			return setting.Value{}, true
		}
	}
	return setting.Value{}, false
}
