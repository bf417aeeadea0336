// This file sends recovery keys to be stored, and says how volumes are.

package endpoint

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/syncml"
)

// KeyHolder is a Platform that encrypts its volumes.
type KeyHolder interface {
	// Tells gives what the service does not know yet: sealed recovery keys, and how volumes are. Each is the item of
	// a generic alert of its own.
	Tells() []syncml.Item
	// Heard is told of the status of each of them: with syncml.OK, a key is stored.
	Heard(item syncml.Item, code string)
	// RenewKey is asked to put another key in the place of one. It gives a status code.
	RenewKey(id recovery.Identifier) (code string)
}

// tellsAtOnce is how many items are told in one session.
const tellsAtOnce = 20

// alerts gives the alerts that tell of keys and volumes. Their statuses are noted by the ids of the commands.
func (l *Laptop) alerts(firstID int) (out []syncml.Command) {
	l.told = nil
	holder, can := l.Platform.(KeyHolder)
	if !can {
		return nil
	}
	items := holder.Tells()
	for i, item := range items[:min(len(items), tellsAtOnce)] {
		id := commandID(firstID + i)
		out = append(out, syncml.Command{Name: "Alert", CmdID: id, Data: syncml.AlertGeneric, Items: []syncml.Item{item}})
		l.told = append(l.told, told{id, item})
	}
	return out
}

// told is an item that waits for its status.
type told struct {
	command string
	item    syncml.Item
}

// hear takes the statuses of what was told.
func (l *Laptop) hear(answer *syncml.Message, msgID string) {
	for i := range answer.Commands {
		c := &answer.Commands[i]
		if c.Name != "Status" || c.Cmd != "Alert" || c.MsgRef != msgID {
			continue
		}
		at := slices.IndexFunc(l.told, func(t told) bool { return t.command == c.CmdRef })
		if at < 0 {
			continue
		}
		item := l.told[at].item
		l.told = slices.Delete(l.told, at, at+1)
		l.Platform.(KeyHolder).Heard(item, c.Data)
	}
}

// sessionsForKeys is how many sessions follow one another while there is something to tell of keys.
const sessionsForKeys = 4

// CheckInFully checks in, and again as long as there is something new to tell of keys and volumes: a key is made once the
// settings have come, and in force once it is stored.
func (l *Laptop) CheckInFully(ctx context.Context) (Outcome, error) {
	out, err := l.CheckIn(ctx)
	holder, can := l.Platform.(KeyHolder)
	for n := 1; can && err == nil && n < sessionsForKeys && len(holder.Tells()) > 0; n++ {
		var more Outcome
		more, err = l.CheckIn(ctx)
		out.Messages += more.Messages
		out.Applied += more.Applied
		out.Refused += more.Refused
	}
	return out, err
}
