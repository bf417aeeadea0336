// Package syncml reads and writes the messages of OMA Device Management 1.2: the representation
// protocol (OMA-TS-DM_RepPro), as far as both sides here speak it. It holds no session and no rules
// of the protocol.
package syncml

// ContentType is the media type of messages in XML.
const ContentType = "application/vnd.syncml.dm+xml"

// Limits of what is read.
const (
	MaxMessage  = 1 << 20 // bytes
	MaxCommands = 500     // commands of a message, those inside of others counted
	MaxID       = 64      // bytes of a session's, message's or command's id
	maxDepth    = 32      // levels of XML
	maxTokens   = 50_000  // parts of the XML: starts, ends, texts and comments
	maxAttrs    = 8       // attributes of an element, those that declare namespaces counted
	maxURI      = 255     // bytes of a URI, of a laptop's and of a node's
)

// Versions of the protocol.
const (
	VerDTD   = "1.2"
	VerProto = "DM/1.2"
)

// Alert codes.
const (
	AlertServerInitiated = "1200"
	AlertClientInitiated = "1201"
	AlertNextMessage     = "1222"
	AlertAbort           = "1223"
	AlertGeneric         = "1226" // what its item's type says
)

// Status codes, as OMA-TS-DM_RepPro section 10 has them.
const (
	OK                   = "200"
	Accepted             = "202"
	AuthAccepted         = "212"
	ChunkAccepted        = "213"
	Cancelled            = "214"
	NotExecuted          = "215"
	RolledBack           = "216"
	BadRequest           = "400"
	WrongCredentials     = "401"
	Forbidden            = "403"
	NotFound             = "404"
	NotAllowed           = "405"
	NotSupported         = "406"
	NeedCredentials      = "407"
	WrongFormat          = "415"
	SizeMismatch         = "424"
	Denied               = "425"
	Failed               = "500"
	VersionNotSupported  = "505"
	AtomicFailed         = "507"
	ProtocolNotSupported = "513"
	AtomicRollbackFailed = "516"
)

// Formats of values.
const (
	FormatBool = "bool"
	FormatInt  = "int"
	FormatText = "chr"
	FormatB64  = "b64"
	FormatNode = "node"
	FormatNull = "null"
)

// Types of credentials: of a session, and of each message.
const (
	AuthMD5 = "syncml:auth-md5"
	AuthMAC = "syncml:auth-MAC"
)

// Message is one message: its header, its commands in order, and whether it ends its package.
type Message struct {
	Header   Header
	Commands []Command
	Final    bool
}

// Header says between whom, in which session, and which message of it.
type Header struct {
	VerDTD, VerProto string
	SessionID, MsgID string
	Target, Source   string
	SourceName       string
	Cred             *Cred
	MaxMsgSize       int // bytes; 0: not said
}

// Cred are the credentials of a message.
type Cred struct{ Format, Type, Data string }

// Chal asks for credentials, or hands out the nonce of the next session.
type Chal struct {
	Format, Type string
	NextNonce    string // base64
}

// Meta describes a value.
type Meta struct {
	Format, Type string
	Size         int // of a large object, with its first chunk
}

// Item is one node and its value.
type Item struct {
	Target, Source string
	Meta           Meta
	Data           string
	More           bool // more chunks follow
}

// Command is any element of a body but Final. Name is the element's name; an unknown one is kept so
// that it can be answered.
type Command struct {
	Name  string
	CmdID string
	Data  string // of an Alert its code, of a Status the status
	Meta  Meta
	Items []Item

	MsgRef, CmdRef, Cmd string // of a Status, and of Results
	TargetRefs          []string
	SourceRefs          []string
	Chal                *Chal

	Commands []Command // inside of Atomic and Sequence
}
