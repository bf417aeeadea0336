// This file answers one message: who sends it, whether it was answered already, and a status for
// each command.

package checkin

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"strconv"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/workflow"
)

// Sender is who a message seems to be from.
type Sender struct {
	Address     string // network address
	MAC         string // the header syncml.MACHeader, which authenticates the message; empty: none
	Certificate string // serial number of the certificate by which the connection is authenticated; empty: none
	Device      string // that the certificate is for
}

// owner names whom a session belongs to that has no MACs: the certificate that opened it, else the network
// address.
func (from *Sender) owner() string {
	if from.Certificate != "" {
		return "certificate " + from.Certificate
	}
	return from.Address
}

// ErrOtherDevice says that a message names another device than the certificate of its connection.
var ErrOtherDevice = errors.New("the message names another device than the certificate")

// Answer takes one message from a laptop and gives the answer. The error is a *syncml.SyntaxError or
// ErrOtherDevice, for which nothing was changed, or one of the store.
//
// A session that began with a MAC goes on with messages that have one. One that began over a connection with
// a certificate belongs to the certificate. One that began with credentials belongs to the network address
// from which they came.
func (d *Server) Answer(ctx context.Context, data []byte, from Sender) ([]byte, error) {
	m, err := syncml.Decode(data)
	if err != nil {
		return nil, err
	}
	if from.Device != "" && m.Header.Source != from.Device {
		d.flow.RecordOften(ctx, workflow.Actor{Name: from.Device, Via: "device"}, "message for another device refused", from.Address)
		return nil, ErrOtherDevice
	}
	if code := versionFault(&m.Header); code != "" {
		return d.refuse(m, code, nil), nil
	}
	in := incoming{Message: m, data: data, sum: sha256.Sum256(append([]byte(from.MAC+"\n"), data...)), from: from}
	d.mu.Lock()
	s := d.sessions[m.Header.Source]
	d.mu.Unlock()
	if s != nil && s.id == m.Header.SessionID && (s.signed || s.from == from.owner()) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if answer, done, err := s.next(ctx, in); done {
			return answer, err
		}
	}
	// The first message of a session, or one after a challenge.
	laptop, code := d.authenticated(ctx, in)
	if code != "" {
		kind := syncml.AuthMD5
		if from.MAC != "" || d.requireMAC {
			kind = syncml.AuthMAC
		}
		return d.refuse(m, code, challengeOf(kind, d.challenge(m.Header.Source, m.Header.SessionID, d.window()))), nil
	}
	s, err = d.begin(ctx, in, laptop)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.answer(ctx, in, true)
}

// incoming is a message as it came.
type incoming struct {
	*syncml.Message
	data []byte
	sum  [32]byte // of the message and its MAC
	from Sender
}

// proves tells whether the MAC of a message is the one that whoever has the credential makes of it
// with the nonce.
func (in incoming) proves(credential string, nonce []byte) bool {
	user, mac, ok := syncml.ParseMAC(in.from.MAC)
	return ok && user == in.Header.Source && same(syncml.MAC(credential, nonce, in.data), mac)
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// authenticated tests what the first message of a session brings. code is the status of what is
// missing or wrong, empty when it is right.
func (d *Server) authenticated(ctx context.Context, in incoming) (laptop enrolled, code string) {
	cred := in.Header.Cred
	proves := in.proves
	switch {
	case in.from.Certificate != "":
		row, err := d.store.In(ctx).Laptop(in.Header.Source)
		if err != nil || d.flow.Live().Plan.Device(estate.DeviceID(in.Header.Source)) == nil {
			return enrolled{}, syncml.Forbidden
		}
		return enrolled{row: row}, ""
	case in.from.MAC != "":
	case cred == nil || d.requireMAC:
		return enrolled{}, syncml.NeedCredentials
	case cred.Type != syncml.AuthMD5:
		return enrolled{}, syncml.WrongCredentials
	default:
		proves = func(credential string, nonce []byte) bool { return same(syncml.Digest(credential, nonce), cred.Data) }
	}
	laptop, ok := d.authenticate(ctx, in.Header.Source, in.Header.SessionID, proves)
	if !ok {
		return enrolled{}, syncml.WrongCredentials
	}
	return laptop, ""
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

// challengeOf asks for credentials of a kind, or hands out the nonce for the next.
func challengeOf(kind string, nonce []byte) *syncml.Chal {
	return &syncml.Chal{Format: syncml.FormatB64, Type: kind, NextNonce: base64.StdEncoding.EncodeToString(nonce)}
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
