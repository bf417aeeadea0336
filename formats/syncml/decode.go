// This file reads messages.

package syncml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// SyntaxError says why a text is no message. Offset counts bytes.
type SyntaxError struct {
	Offset int64
	Reason string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("no SyncML message: at byte %d: %s", e.Offset, e.Reason)
}

// element is one element of a message, with its text.
type element struct {
	name     string
	content  []byte // the text, put together of as many parts as there are
	children []*element
}

func (e *element) text() string { return string(e.content) }

func (e *element) child(name string) *element {
	if e != nil {
		for _, c := range e.children {
			if c.name == name {
				return c
			}
		}
	}
	return nil
}

// at gives the text below a path of names, trimmed; empty when it is not there.
func (e *element) at(path ...string) string {
	for _, name := range path {
		e = e.child(name)
	}
	if e == nil {
		return ""
	}
	return strings.TrimSpace(e.text())
}

// Decode reads a message. A text with a document type, with processing instructions, with entities
// beyond the five of XML, nested too deep or too long is refused, as is one that is no SyncML 1.2,
// or beyond a limit of this package. The error is a *SyntaxError.
func Decode(data []byte) (*Message, error) {
	if len(data) > MaxMessage {
		return nil, &SyntaxError{MaxMessage, "longer than 1 MiB"}
	}
	root, err := readTree(data)
	if err != nil {
		return nil, err
	}
	header, body := root.child("SyncHdr"), root.child("SyncBody")
	if header == nil || body == nil {
		return nil, &SyntaxError{0, "found no SyncHdr and SyncBody"}
	}
	m := &Message{Header: readHeader(header)}
	if m.Header.SessionID == "" || m.Header.MsgID == "" || m.Header.Source == "" {
		return nil, &SyntaxError{0, "the header lacks SessionID, MsgID or Source"}
	}
	if _, err := strconv.ParseUint(m.Header.MsgID, 10, 63); err != nil && len(m.Header.MsgID) <= MaxID {
		return nil, &SyntaxError{0, fmt.Sprintf("a MsgID of %q, expected a number", m.Header.MsgID)}
	}
	for _, e := range body.children {
		if e.name == "Final" {
			m.Final = true
			continue
		}
		m.Commands = append(m.Commands, readCommand(e))
	}
	if reason := m.beyond(); reason != "" {
		return nil, &SyntaxError{0, reason}
	}
	return m, nil
}

// beyond says which limit a message is beyond; empty: none.
func (m *Message) beyond() string {
	h := &m.Header
	for name, id := range map[string]string{"SessionID": h.SessionID, "MsgID": h.MsgID} {
		if len(id) > MaxID {
			return fmt.Sprintf("a %s of %d bytes, expected at most %d", name, len(id), MaxID)
		}
	}
	for name, uri := range map[string]string{"Source": h.Source, "Target": h.Target, "LocName": h.SourceName} {
		if len(uri) > maxURI {
			return fmt.Sprintf("a %s of %d bytes, expected at most %d", name, len(uri), maxURI)
		}
	}
	count := 0
	var each func(commands []Command) string
	each = func(commands []Command) string {
		for i := range commands {
			c := &commands[i]
			count++
			switch {
			case count > MaxCommands:
				return fmt.Sprintf("more than %d commands", MaxCommands)
			case max(len(c.CmdID), len(c.MsgRef), len(c.CmdRef), len(c.Name), len(c.Cmd)) > MaxID:
				return fmt.Sprintf("a command with an id or name of more than %d bytes", MaxID)
			}
			for k := range c.Items {
				if max(len(c.Items[k].Source), len(c.Items[k].Target)) > maxURI {
					return fmt.Sprintf("a node's URI of more than %d bytes", maxURI)
				}
				for _, uri := range []string{c.Items[k].Source, c.Items[k].Target} {
					if slices.Contains(strings.Split(uri, "/"), "..") {
						return "a node's URI with .. in it, expected every name written out"
					}
				}
			}
			if reason := each(c.Commands); reason != "" {
				return reason
			}
		}
		return ""
	}
	return each(m.Commands)
}

// readTree reads the elements. The namespaces are checked at the root and for what belongs to meta
// information.
func readTree(data []byte) (*element, error) {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	var open []*element
	var root *element
	tokens := 0
	fail := func(format string, args ...any) error {
		return &SyntaxError{d.InputOffset(), fmt.Sprintf(format, args...)}
	}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fail("%s", strings.TrimPrefix(err.Error(), "XML syntax error on "))
		}
		if tokens++; tokens > maxTokens {
			return nil, fail("more than %d elements and texts", maxTokens)
		}
		switch t := token.(type) {
		case xml.Directive:
			return nil, fail("a document type is not taken")
		case xml.ProcInst:
			if t.Target != "xml" || tokens > 1 {
				return nil, fail("a processing instruction is not taken")
			}
		case xml.StartElement:
			if len(t.Attr) > maxAttrs {
				return nil, fail("more than %d attributes", maxAttrs)
			}
			if len(open) >= maxDepth {
				return nil, fail("more than %d levels of elements", maxDepth)
			}
			e := &element{name: t.Name.Local}
			if len(open) == 0 {
				if root != nil || t.Name.Local != "SyncML" || t.Name.Space != "SYNCML:SYNCML1.2" {
					return nil, fail("found <%s> of %q, expected one <SyncML> of SYNCML:SYNCML1.2", t.Name.Local, t.Name.Space)
				}
				root = e
			} else {
				parent := open[len(open)-1]
				parent.children = append(parent.children, e)
			}
			open = append(open, e)
		case xml.EndElement:
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 0 {
				e := open[len(open)-1]
				e.content = append(e.content, t...)
			}
		}
	}
	if root == nil {
		return nil, fail("found no element")
	}
	return root, nil
}

func readHeader(e *element) Header {
	h := Header{
		VerDTD: e.at("VerDTD"), VerProto: e.at("VerProto"), SessionID: e.at("SessionID"), MsgID: e.at("MsgID"),
		Target: e.at("Target", "LocURI"), Source: e.at("Source", "LocURI"), SourceName: e.at("Source", "LocName"),
	}
	h.MaxMsgSize, _ = strconv.Atoi(e.at("Meta", "MaxMsgSize"))
	if c := e.child("Cred"); c != nil {
		h.Cred = &Cred{Format: c.at("Meta", "Format"), Type: c.at("Meta", "Type"), Data: c.at("Data")}
	}
	return h
}

func readMeta(e *element) Meta {
	m := Meta{Format: e.at("Meta", "Format"), Type: e.at("Meta", "Type")}
	m.Size, _ = strconv.Atoi(e.at("Meta", "Size"))
	return m
}

func readCommand(e *element) Command {
	c := Command{
		Name: e.name, CmdID: e.at("CmdID"), Data: e.at("Data"), Meta: readMeta(e),
		MsgRef: e.at("MsgRef"), CmdRef: e.at("CmdRef"), Cmd: e.at("Cmd"),
	}
	for _, child := range e.children {
		switch child.name {
		case "Item":
			item := Item{
				Target: child.at("Target", "LocURI"),
				Source: child.at("Source", "LocURI"),
				Meta:   readMeta(child),
				More:   child.child("MoreData") != nil,
			}
			if data := child.child("Data"); data != nil {
				item.Data = data.text() // as it stands: spaces may belong to a value
			}
			c.Items = append(c.Items, item)
		case "TargetRef":
			c.TargetRefs = append(c.TargetRefs, strings.TrimSpace(child.text()))
		case "SourceRef":
			c.SourceRefs = append(c.SourceRefs, strings.TrimSpace(child.text()))
		case "Chal":
			c.Chal = &Chal{Format: child.at("Meta", "Format"), Type: child.at("Meta", "Type"), NextNonce: child.at("Meta", "NextNonce")}
		case "Atomic", "Sequence", "Get", "Add", "Replace", "Delete", "Exec", "Copy", "Alert":
			if e.name == "Atomic" || e.name == "Sequence" {
				c.Commands = append(c.Commands, readCommand(child))
			}
		}
	}
	return c
}
