// This file has the notification message, package 0 of a session: the service tells a laptop to check in.
//
// Source: Open Mobile Alliance, OMA Device Management Notification Initiated Session 1.2
// (OMA-TS-DM_Notification). Ours: the message comes over a connection that the laptop holds, and the digest
// is made with the laptop's own credential and the nonce of that connection.

package syncml

import (
	"crypto/md5"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
)

// Notification is a notification message.
type Notification struct {
	SessionID uint16 // of the session that the laptop is to begin
	Server    string // id of the service, at most 255 bytes
	ByServer  bool   // the service asks by itself, and no person at the laptop
}

// NonceHeader is the header of the answer that opens a connection for notifications. It has the nonce, in
// base64, with which their digests are made.
const NonceHeader = "x-syncml-nonce"

const (
	digestSize   = 16
	headerSize   = 8  // of the trigger: version, mode, initiator, future use, session, length of the server's id
	version12    = 12 // 1.2 in ten bits
	uiBackground = 1  // the person at the laptop is not asked
)

// EncodeNotification gives the message as bytes: its digest, then the trigger.
func EncodeNotification(n Notification, userDigest string, nonce []byte) ([]byte, error) {
	if len(n.Server) > 255 {
		return nil, fmt.Errorf("found an id of the service of %d bytes, expected at most 255", len(n.Server))
	}
	trigger := make([]byte, headerSize, headerSize+len(n.Server))
	// Ten bits of version, two of mode, one of initiator, 27 of future use: five bytes.
	bits := uint64(version12)<<30 | uint64(uiBackground)<<28
	if n.ByServer {
		bits |= 1 << 27
	}
	for i := range 5 {
		trigger[i] = byte(bits >> (8 * (4 - i)))
	}
	binary.BigEndian.PutUint16(trigger[5:], n.SessionID)
	trigger[7] = byte(len(n.Server))
	trigger = append(trigger, n.Server...)
	return append(notificationDigest(trigger, userDigest, nonce), trigger...), nil
}

// notificationDigest is MD5(userDigest ":" nonce ":" B64(MD5(trigger))).
func notificationDigest(trigger []byte, userDigest string, nonce []byte) []byte {
	sum := md5.Sum(trigger)
	of := append([]byte(userDigest+":"), nonce...)
	of = append(of, ':')
	of = append(of, base64.StdEncoding.EncodeToString(sum[:])...)
	sum = md5.Sum(of)
	return sum[:]
}

// ErrNotification says that a notification is not what it should be, or not from the service.
var ErrNotification = errors.New("the notification is not one of the service")

// DecodeNotification reads a message and tests its digest. What follows the id of the service is left to
// vendors, and ignored. The error is ErrNotification.
func DecodeNotification(data []byte, userDigest string, nonce []byte) (Notification, error) {
	if len(data) < digestSize+headerSize {
		return Notification{}, ErrNotification
	}
	digest, trigger := data[:digestSize], data[digestSize:]
	if subtle.ConstantTimeCompare(digest, notificationDigest(trigger, userDigest, nonce)) != 1 {
		return Notification{}, ErrNotification
	}
	var bits uint64
	for i := range 5 {
		bits = bits<<8 | uint64(trigger[i])
	}
	length := int(trigger[7])
	if bits>>30 != version12 || len(trigger) < headerSize+length {
		return Notification{}, ErrNotification
	}
	return Notification{
		SessionID: binary.BigEndian.Uint16(trigger[5:]), Server: string(trigger[headerSize : headerSize+length]), ByServer: bits>>27&1 == 1,
	}, nil
}
