// This file answers one message: who sends it, whether it was answered already, and a status for
// each command.

package checkin

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"strconv"

	"zenithridge.example/zridge/formats/syncml"
)

// Answer takes one message from a laptop and gives the answer. from is the sender's network
// address. The error is a *syncml.SyntaxError, for which nothing was changed, or one of the store.
func (d *Server) Answer(ctx context.Context, data []byte, from string) ([]byte, error) {
	m, err := syncml.Decode(data)
	if err != nil {
		return nil, err
	}
	if code := versionFault(&m.Header); code != "" {
		return d.refuse(m, code, nil), nil
	}
	device := m.Header.Source
	d.mu.Lock()
	s := d.sessions[device]
	d.mu.Unlock()
	if s != nil && s.id == m.Header.SessionID && s.from == from {
		s.mu.Lock()
		defer s.mu.Unlock()
		sum := sha256.Sum256(data)
		if answer, again := s.answers[m.Header.MsgID]; again && (!s.over || answer.of == sum) {
			return answer.text, nil // the same answer again, no second effect
		}
		if !s.over {
			s.bytes += int64(len(data))
			return s.answer(ctx, m, sum, m.Header.Cred != nil)
		}
	}
	// The first message of a session, or one after a challenge: it needs credentials.
	code := ""
	switch {
	case m.Header.Cred == nil:
		code = syncml.NeedCredentials
	case m.Header.Cred.Type != syncml.AuthMD5 || !d.authenticate(ctx, device, m.Header.SessionID, m.Header.Cred.Data):
		code = syncml.WrongCredentials
	}
	if code != "" {
		return d.refuse(m, code, challengeOf(d.challenge(device, m.Header.SessionID, d.window()))), nil
	}
	s, err = d.begin(ctx, m, from)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.answer(ctx, m, sha256.Sum256(data), true)
}

func versionFault(h *syncml.Header) string {
	switch {
	case h.VerDTD != syncml.VerDTD:
		return syncml.VersionNotSupported
	case h.VerProto != syncml.VerProto:
		return syncml.ProtocolNotSupported
	}
	return ""
}

func challengeOf(nonce []byte) *syncml.Chal {
	return &syncml.Chal{Format: syncml.FormatB64, Type: syncml.AuthMD5, NextNonce: base64.StdEncoding.EncodeToString(nonce)}
}

// refuse answers a message of which nothing is done: with a status for its header, whatever else it
// has. A stranger gets no long answer.
func (d *Server) refuse(m *syncml.Message, code string, chal *syncml.Chal) []byte {
	out := answerTo(m)
	header := statusOf(m, "0", "SyncHdr", code)
	header.TargetRefs, header.SourceRefs = nonEmpty(m.Header.Target), nonEmpty(m.Header.Source)
	header.Chal = chal
	out.Commands = append(out.Commands, header)
	number(out)
	out.Final = true
	return syncml.Encode(out)
}

func nonEmpty(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

func answerTo(m *syncml.Message) *syncml.Message {
	return &syncml.Message{Header: syncml.Header{
		VerDTD: syncml.VerDTD, VerProto: syncml.VerProto, SessionID: m.Header.SessionID, MsgID: m.Header.MsgID,
		Target: m.Header.Source, Source: m.Header.Target, MaxMsgSize: maxMessage,
	}}
}

func statusOf(m *syncml.Message, cmdRef, cmd, code string) syncml.Command {
	return syncml.Command{Name: "Status", MsgRef: m.Header.MsgID, CmdRef: cmdRef, Cmd: cmd, Data: code}
}

// number gives the commands of a message their ids, those inside of others too.
func number(m *syncml.Message) {
	next := 0
	var each func([]syncml.Command)
	each = func(commands []syncml.Command) {
		for i := range commands {
			next++
			commands[i].CmdID = strconv.Itoa(next)
			each(commands[i].Commands)
		}
	}
	each(m.Commands)
}
