// This file writes messages.

package syncml

import (
	"bytes"
	"encoding/xml"
	"strconv"
)

// Encode gives a message as XML.
func Encode(m *Message) []byte {
	w := &writer{}
	w.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	w.WriteString(`<SyncML xmlns="SYNCML:SYNCML1.2">`)
	w.header(&m.Header)
	w.WriteString("<SyncBody>")
	for i := range m.Commands {
		w.command(&m.Commands[i])
	}
	if m.Final {
		w.WriteString("<Final/>")
	}
	w.WriteString("</SyncBody></SyncML>\n")
	return w.Bytes()
}

// Size gives the length of a command as it is written, in bytes.
func Size(c *Command) int {
	w := &writer{}
	w.command(c)
	return w.Len()
}

type writer struct{ bytes.Buffer }

func (w *writer) in(name string, inside func()) {
	w.WriteString("<" + name + ">")
	inside()
	w.WriteString("</" + name + ">")
}

func (w *writer) text(name, text string) {
	w.in(name, func() { xml.EscapeText(&w.Buffer, []byte(text)) })
}

func (w *writer) optional(name, text string) {
	if text != "" {
		w.text(name, text)
	}
}

// info writes an element of the meta information's namespace.
func (w *writer) info(name, text string) {
	if text != "" {
		w.WriteString("<" + name + ` xmlns="syncml:metinf">`)
		xml.EscapeText(&w.Buffer, []byte(text))
		w.WriteString("</" + name + ">")
	}
}

func (w *writer) uri(name, uri string) {
	if uri != "" {
		w.in(name, func() { w.text("LocURI", uri) })
	}
}

func (w *writer) header(h *Header) {
	w.in("SyncHdr", func() {
		w.text("VerDTD", h.VerDTD)
		w.text("VerProto", h.VerProto)
		w.text("SessionID", h.SessionID)
		w.text("MsgID", h.MsgID)
		w.uri("Target", h.Target)
		w.in("Source", func() {
			w.text("LocURI", h.Source)
			w.optional("LocName", h.SourceName)
		})
		if h.Cred != nil {
			w.in("Cred", func() {
				w.in("Meta", func() {
					w.info("Format", h.Cred.Format)
					w.info("Type", h.Cred.Type)
				})
				w.text("Data", h.Cred.Data)
			})
		}
		if h.MaxMsgSize > 0 {
			w.in("Meta", func() { w.info("MaxMsgSize", strconv.Itoa(h.MaxMsgSize)) })
		}
	})
}

func (w *writer) meta(m Meta) {
	if m == (Meta{}) {
		return
	}
	w.in("Meta", func() {
		w.info("Format", m.Format)
		w.info("Type", m.Type)
		if m.Size > 0 {
			w.info("Size", strconv.Itoa(m.Size))
		}
	})
}

func (w *writer) command(c *Command) {
	w.in(c.Name, func() {
		w.text("CmdID", c.CmdID)
		w.optional("MsgRef", c.MsgRef)
		w.optional("CmdRef", c.CmdRef)
		w.optional("Cmd", c.Cmd)
		for _, ref := range c.TargetRefs {
			w.text("TargetRef", ref)
		}
		for _, ref := range c.SourceRefs {
			w.text("SourceRef", ref)
		}
		w.meta(c.Meta)
		if c.Chal != nil {
			w.in("Chal", func() {
				w.in("Meta", func() {
					w.info("Format", c.Chal.Format)
					w.info("Type", c.Chal.Type)
					w.info("NextNonce", c.Chal.NextNonce)
				})
			})
		}
		w.optional("Data", c.Data)
		for i := range c.Items {
			w.item(&c.Items[i])
		}
		for i := range c.Commands {
			w.command(&c.Commands[i])
		}
	})
}

func (w *writer) item(i *Item) {
	w.in("Item", func() {
		w.uri("Target", i.Target)
		w.uri("Source", i.Source)
		w.meta(i.Meta)
		if i.Meta.Format != FormatNull {
			w.text("Data", i.Data)
		}
		if i.More {
			w.WriteString("<MoreData/>")
		}
	})
}
