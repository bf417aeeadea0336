// This file carries out the commands of a message.

package endpoint

import (
	"strings"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// worker carries out the commands of one message.
type worker struct {
	laptop    *Laptop
	msgRef    string
	out       *Outcome
	reply     []syncml.Command
	commanded bool
}

func (w *worker) status(cmdRef, cmd, code string) {
	w.reply = append(w.reply, syncml.Command{Name: "Status", MsgRef: w.msgRef, CmdRef: cmdRef, Cmd: cmd, Data: code})
}

func (w *worker) do(c *syncml.Command) {
	switch c.Name {
	case "Status":
		return
	case "Atomic":
		w.atomic(c)
	case "Get":
		w.get(c)
	case "Replace", "Delete":
		code := w.set(c)
		if code != syncml.ChunkAccepted {
			w.count(c, code)
		}
		w.status(c.CmdID, c.Name, code)
	case "Exec":
		w.status(c.CmdID, c.Name, w.exec(c))
	default:
		w.status(c.CmdID, c.Name, syncml.NotSupported)
	}
	w.commanded = true
}

// exec carries out what a node is asked to do.
func (w *worker) exec(c *syncml.Command) (code string) {
	holder, can := w.laptop.Platform.(KeyHolder)
	if !can || len(c.Items) != 1 {
		return syncml.NotFound
	}
	id, is := syncml.RecoveryKeyOf(c.Items[0].Target)
	if !is {
		return syncml.NotFound
	}
	return holder.RenewKey(id)
}

func (w *worker) count(c *syncml.Command, code string) {
	if len(c.Items) == 1 && (c.Items[0].Target == syncml.RevisionPath || strings.HasPrefix(c.Items[0].Target, syncml.OfferPath) ||
		strings.HasPrefix(c.Items[0].Target, syncml.WhyPath)) {
		return
	}
	if code == syncml.OK || code == syncml.Accepted {
		w.out.Applied++
	} else {
		w.out.Refused++
	}
}

func (w *worker) get(c *syncml.Command) {
	for _, item := range c.Items {
		data, meta, found := w.read(item.Target)
		if !found {
			w.status(c.CmdID, "Get", syncml.NotFound)
			continue
		}
		w.status(c.CmdID, "Get", syncml.OK)
		w.reply = append(
			w.reply,
			syncml.Command{Name: "Results", MsgRef: w.msgRef, CmdRef: c.CmdID, Items: []syncml.Item{{Source: item.Target, Meta: meta, Data: data}}},
		)
	}
}

func (w *worker) read(path string) (data string, meta syncml.Meta, found bool) {
	text := syncml.Meta{Format: syncml.FormatText, Type: "text/plain"}
	switch path {
	case syncml.DigestPath:
		return syncml.ReportDigest(w.laptop.Platform.Reported()), text, true
	case syncml.RevisionPath:
		return w.laptop.Revision, text, true
	case syncml.TakenPath:
		if chooser, can := w.laptop.Platform.(Chooser); can {
			data, meta = syncml.WriteTaken(chooser.Taken())
			return data, meta, true
		}
		return "", meta, false
	}
	if name, is := strings.CutPrefix(path, syncml.FactPath); is {
		knower, can := w.laptop.Platform.(Knower)
		if !can {
			return "", meta, false
		}
		v, known := knower.Fact(name)
		if !known {
			return "", meta, false
		}
		data, meta = syncml.WriteValue(v)
		return data, meta, true
	}
	if id, ok := syncml.SettingOf(path); ok {
		v, has := w.laptop.Platform.Reported()[id]
		if observer, can := w.laptop.Platform.(Observer); !has && can {
			v, has = observer.Observe(id)
		}
		if has {
			data, meta = syncml.WriteValue(v)
			return data, meta, true
		}
	}
	return "", meta, false
}

// set carries out a Replace or Delete of one node.
func (w *worker) set(c *syncml.Command) string {
	if len(c.Items) != 1 {
		return syncml.BadRequest
	}
	item := c.Items[0]
	if item.Target == syncml.RevisionPath && c.Name == "Replace" {
		w.laptop.Revision = item.Data
		return syncml.OK
	}
	if policy, ok := strings.CutPrefix(item.Target, syncml.OfferPath); ok {
		return w.laptop.offer(policy, c.Name, item.Data)
	}
	if id, ok := strings.CutPrefix(item.Target, syncml.WhyPath); ok {
		return w.laptop.explain(setting.ID(id), c.Name, item.Data)
	}
	id, ok := syncml.SettingOf(item.Target)
	if !ok {
		return syncml.NotFound
	}
	if c.Name == "Delete" {
		return w.laptop.Platform.Apply(id, setting.Value{})
	}
	item, code := w.laptop.assemble(item)
	if code != syncml.OK {
		return code
	}
	v, err := syncml.ReadValue(item.Data, item.Meta)
	if err != nil {
		return syncml.WrongFormat
	}
	if code := w.laptop.fetch(v); code != syncml.OK {
		return code
	}
	return w.laptop.Platform.Apply(id, v)
}

// lacks tells whether a command is for a setting that the laptop does not have.
func (w *worker) lacks(c *syncml.Command) bool {
	supporter, can := w.laptop.Platform.(Supporter)
	if !can || c.Name != "Replace" || len(c.Items) != 1 {
		return false
	}
	id, is := syncml.SettingOf(c.Items[0].Target)
	return is && !supporter.Supports(id)
}

// atomic does all of its commands or none: when one fails, what was done is taken back and the rest not begun.
func (w *worker) atomic(c *syncml.Command) {
	codes := make([]string, len(c.Commands))
	verdict := syncml.OK
	for i := range c.Commands { // all that it does not have is said at once: each would cost a further message otherwise
		if codes[i] = syncml.NotExecuted; w.lacks(&c.Commands[i]) {
			codes[i], verdict = syncml.NotSupported, syncml.AtomicFailed
		}
	}
	if verdict == syncml.OK {
		verdict = w.doAll(c.Commands, codes)
	}
	w.status(c.CmdID, "Atomic", verdict)
	for i := range c.Commands {
		if codes[i] != syncml.NotExecuted && codes[i] != syncml.RolledBack {
			w.count(&c.Commands[i], codes[i])
		}
		w.status(c.Commands[i].CmdID, c.Commands[i].Name, codes[i])
	}
}

// doAll carries out commands until one fails, and then takes back what was done. It notes the code of each.
func (w *worker) doAll(commands []syncml.Command, codes []string) (verdict string) {
	before, revision := w.laptop.Platform.Reported(), w.laptop.Revision
	for i := range commands {
		if codes[i] = w.set(&commands[i]); codes[i] == syncml.OK || codes[i] == syncml.Accepted {
			continue
		}
		w.laptop.Revision = revision
		for j := range i {
			codes[j] = syncml.RolledBack
			if id, ok := syncml.SettingOf(commands[j].Items[0].Target); ok {
				w.laptop.Platform.Apply(id, before[id])
			}
		}
		return syncml.AtomicFailed
	}
	return syncml.OK
}
