package syncml_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	. "zenithridge.example/zridge/formats/syncml"
)

// withIn is a message with something in its header and something in its body.
func withIn(header, body string) []byte {
	return []byte(`<SyncML xmlns="SYNCML:SYNCML1.2"><SyncHdr><VerDTD>1.2</VerDTD><VerProto>DM/1.2</VerProto><SessionID>1</SessionID>` +
		`<Source><LocURI>LT-1</LocURI></Source>` + header + `</SyncHdr><SyncBody>` + body + `<Final/></SyncBody></SyncML>`)
}

// What would cost much more than its length is refused. None of it takes long: a text of many parts
// is put together once.
func TestMessagesBeyondALimitAreRefused(t *testing.T) {
	const id = "<MsgID>1</MsgID>"
	get := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "<Get><CmdID>%d</CmdID></Get>", i)
		}
		return b.String()
	}
	flood := func(part string) string { return strings.Repeat(part, (MaxMessage-600)/len(part)) }
	for name, test := range map[string]struct {
		data []byte
		says string
	}{
		"instructions":       {withIn(id+"a<?x?>", ""), "processing instruction"},
		"many instructions":  {withIn(id+flood("a<?x?>"), ""), "processing instruction"},
		"comments":           {withIn(id+flood("a<!---->"), ""), "elements and texts"},
		"marked sections":    {withIn(id+flood("<![CDATA[a]]>"), ""), "elements and texts"},
		"elements":           {withIn(id, flood("<a/>")), "elements and texts"},
		"commands":           {withIn(id, get(MaxCommands+1)), "commands"},
		"commands in others": {withIn(id, "<Atomic><CmdID>x</CmdID>"+get(MaxCommands)+"</Atomic>"), "commands"},
		"as many commands":   {withIn(id, get(MaxCommands)), ""},
		"a message's id":     {withIn("<MsgID>"+strings.Repeat("7", 300_000)+"</MsgID>", get(10)), "MsgID"},
		"a command's id":     {withIn(id, "<Get><CmdID>"+strings.Repeat("7", 65)+"</CmdID></Get>"), "id or name"},
		"a command's name":   {withIn(id, "<"+strings.Repeat("G", 65)+"/>"), "id or name"},
		"a node's URI":       {withIn(id, "<Get><Item><Target><LocURI>./"+strings.Repeat("x", 300)+"</LocURI></Target></Item></Get>"), "URI"},
		"a relative URI":     {withIn(id, "<Get><Item><Target><LocURI>./Device/../Secret</LocURI></Target></Item></Get>"), "with .. in it"},
		"attributes":         {withIn(id, `<Get a="1" b="1" c="1" d="1" e="1" f="1" g="1" h="1" i="1"/>`), "attributes"},
	} {
		_, err := Decode(test.data)
		var refused *SyntaxError
		switch {
		case test.says == "" && err != nil:
			t.Errorf("%s are refused: %v", name, err)
		case test.says != "" && (!errors.As(err, &refused) || !strings.Contains(refused.Reason, test.says)):
			t.Errorf("%s: %v, expected that it says %q", name, err, test.says)
		}
	}
}
