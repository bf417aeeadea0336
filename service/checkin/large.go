// This file sends values that are larger than a laptop's messages, in chunks (OMA-TS-DM_Protocol,
// large objects).

package checkin

import (
	"context"
	"encoding/xml"
	"strings"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// isLarge tells whether no one message of the laptop can hold the setting's value.
func (s *session) isLarge(id setting.ID) bool {
	c := command(s.deliveries[id])
	return syncml.Size(&c) > s.room()
}

// chunksOf cuts data into parts that take at most size bytes each once they are escaped, between
// characters.
func chunksOf(data string, size int) []string {
	var chunks []string
	var b strings.Builder
	start, length := 0, 0
	for i, r := range data {
		b.Reset()
		xml.EscapeText(&b, []byte(string(r)))
		if length+b.Len() > size && i > start {
			chunks = append(chunks, data[start:i])
			start, length = i, 0
		}
		length += b.Len()
	}
	return append(chunks, data[start:])
}

// beginChunks sends the first chunk of the value in flight, with the size of the whole.
func (s *session) beginChunks(out *syncml.Message) error {
	data, meta := syncml.WriteValue(s.deliveries[s.inFlight[0]].Wanted)
	s.phase = chunking
	s.chunks = chunksOf(data, max(s.limit-2*headroom, s.limit/4))
	s.sent++
	meta.Size = len(data)
	s.chunk(out, meta)
	return nil
}

func (s *session) chunk(out *syncml.Message, meta syncml.Meta) {
	item := syncml.Item{Target: syncml.SettingPath + string(s.inFlight[0]), Meta: meta, Data: s.chunks[0], More: len(s.chunks) > 1}
	s.chunks = s.chunks[1:]
	out.Commands = append(out.Commands, syncml.Command{Name: "Replace", Items: []syncml.Item{item}})
}

// nextChunk takes the laptop's status for the last chunk: it goes on, or the value is taken or
// refused.
func (s *session) nextChunk(ctx context.Context, out *syncml.Message) error {
	code := ""
	for key, c := range s.asked {
		if said, ok := s.statuses[key]; ok && c.Name == "Replace" {
			code = said
		}
	}
	s.asked, s.statuses = map[string]syncml.Command{}, map[string]string{}
	switch {
	case len(s.chunks) > 0 && code == syncml.ChunkAccepted:
		s.chunk(out, syncml.Meta{})
		return nil
	case len(s.chunks) == 0 && code == syncml.OK:
		s.took = append(s.took, s.inFlight[0])
	default:
		if code == "" {
			code = syncml.Failed
		}
		s.chunks = nil
		s.refused(s.inFlight[0], code, reasonOf(code))
	}
	return s.send(ctx, out)
}
