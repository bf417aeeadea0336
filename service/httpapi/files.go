// This file has the resource of files that values name, and the endpoint from which laptops fetch
// them.

package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/workflow"
)

type addFileInput struct {
	Name          string `query:"name" required:"true" maxLength:"800" doc:"What people call it"`
	Content       string `query:"content" enum:"any,certificate,application-rules,application" default:"any" doc:"What it must be"`
	AcceptExpired bool   `query:"accept_expired" doc:"Take a certificate that has expired"`
	ReadOnly      bool   `query:"read_only" doc:"Say what is in it and do not keep it"`
	rawBody
}

// rawBody is a body of bytes that the handler reads itself. The API library would read it into a
// buffer that grows and that it keeps: of a large file several times its size.
type rawBody struct {
	from   io.Reader
	length int64 // below 0: not said
}

// Resolve implements huma.Resolver.
func (b *rawBody) Resolve(ctx huma.Context) []error {
	r := humagin.Unwrap(ctx).Request
	b.from, b.length = r.Body, r.ContentLength
	return nil
}

// read gives the body, of limit bytes at most.
func (b *rawBody) read(limit int64) ([]byte, error) {
	tooLarge := problemOf(http.StatusRequestEntityTooLarge, "too-large", fmt.Sprintf("found more than %d bytes", limit))
	if b.length > limit {
		return nil, tooLarge
	}
	var data []byte
	var err error
	if b.length >= 0 {
		data = make([]byte, b.length)
		_, err = io.ReadFull(b.from, data)
	} else {
		data, err = io.ReadAll(io.LimitReader(b.from, limit+1))
	}
	switch {
	case err != nil:
		return nil, problemOf(http.StatusBadRequest, "faults", "the body could not be read to its end")
	case int64(len(data)) > limit:
		return nil, tooLarge
	}
	return data, nil
}

// describeRaw says in the API document that the body is bytes.
func describeRaw(op *huma.Operation) {
	op.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
	}}
}

type fileOutput struct {
	ContentType        string `header:"Content-Type"`
	ContentDisposition string `header:"Content-Disposition"`
	Policy             string `header:"Content-Security-Policy"`
	Cache              string `header:"Cache-Control"`
	Body               []byte
}

func (s *server) registerFiles() {
	huma.Register(
		s.api,
		operation(
			"addFile",
			http.MethodPost,
			"/files",
			"Read a file and keep it, once by its SHA-256",
			needs(access.Write),
			status(http.StatusCreated),
			describeRaw,
		),
		s.addFile,
	)
	huma.Register(s.api, operation("listFiles", http.MethodGet, "/files", "Files that are kept, the newest first"), s.listFiles)
	huma.Register(s.api, operation("getFile", http.MethodGet, "/files/{sha256}", "A file that is kept, and what is in it"), s.getFile)
	huma.Register(
		s.api,
		operation("fileContent", http.MethodGet, "/files/{sha256}/content", "A file's bytes", answers("application/octet-stream")),
		s.fileContent,
	)
}

func fileOf(k workflow.Kept) wire.File {
	return wire.File{SHA256: k.SHA256, Name: k.Name, Size: k.Size, By: k.By, At: k.At, New: k.New, Reading: k.Reading}
}

// proofOf gives by what a laptop shows who it is: the certificate of its connection, else its id and secret
// (RFC 7617), where laptops may still use secrets.
func (s *server) proofOf(c *gin.Context) checkin.Proof {
	if s.Enrolment != nil {
		if certificate, err := s.certificateOf(c.Request.Context()); err == nil {
			device, _ := s.Enrolment.Check(certificate)
			return checkin.Proof{Device: device, Certified: true}
		}
	}
	if !s.BySecret {
		return checkin.Proof{}
	}
	device, secret, _ := c.Request.BasicAuth()
	return checkin.Proof{Device: device, Secret: secret}
}

// laptopFile hands a file to a laptop that needs it.
func (s *server) laptopFile(c *gin.Context) {
	data, err := s.CheckIn.File(c.Request.Context(), s.proofOf(c), c.Param("sha256"))
	switch {
	case err == checkin.ErrRefused:
		c.Header("WWW-Authenticate", `Basic realm="laptops", charset="UTF-8"`)
		writeProblem(c.Writer, problemOf(http.StatusUnauthorized, "refused", "the laptop's id or secret is not right"))
	case err != nil:
		writeProblem(c.Writer, s.fault(c.Request.Context(), err).(*wire.Problem))
	default:
		c.Header("Cache-Control", "private, no-store")
		c.Data(http.StatusOK, "application/octet-stream", data)
	}
}

// heartbeatEvery is how often a connection for notifications says that it lives.
const heartbeatEvery = time.Minute

// notifications holds a connection of a laptop and sends it notifications: each after its length in two
// bytes, the higher first. A length of 0 is a heartbeat.
func (s *server) notifications(c *gin.Context) {
	l, stop, err := s.CheckIn.Listen(c.Request.Context(), s.proofOf(c), originOf(c.Request.Context()).Address)
	if err != nil {
		c.Header("WWW-Authenticate", `Basic realm="laptops", charset="UTF-8"`)
		writeProblem(c.Writer, problemOf(http.StatusUnauthorized, "refused", "the laptop's id or secret is not right"))
		return
	}
	defer stop()
	control := http.NewResponseController(c.Writer)
	control.SetWriteDeadline(time.Time{}) // the connection is held
	c.Header("Content-Type", "application/octet-stream")
	c.Header("Cache-Control", "no-store")
	c.Header(syncml.NonceHeader, base64.StdEncoding.EncodeToString(l.Nonce))
	tick := time.NewTicker(heartbeatEvery)
	defer tick.Stop()
	for message := []byte(nil); ; { // begins with a heartbeat: the laptop knows then that it is heard
		frame := binary.BigEndian.AppendUint16(nil, uint16(len(message)))
		if _, err := c.Writer.Write(append(frame, message...)); err != nil || control.Flush() != nil {
			return
		}
		var open bool
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.Ending:
			return
		case message, open = <-l.Messages:
			if !open {
				return // another connection of the laptop is there
			}
		case <-tick.C:
			message = nil
		}
	}
}

// addFile handles the operation addFile: read a file and keep it, once by its SHA-256.
func (s *server) addFile(ctx context.Context, in *addFileInput) (*output[wire.File], error) {
	data, err := in.read(s.Flow.MaxFile())
	if err != nil {
		return nil, err
	}
	kept, err := s.Flow.AddFile(ctx, actorOf(ctx), in.Name,
		data,
		contents.Options{Expect: setting.Content(in.Content), AcceptExpired: in.AcceptExpired},
		!in.ReadOnly,
	)
	return out(fileOf(kept), s.fault(ctx, err))
}

// listFiles handles the operation listFiles: files that are kept, the newest first.
func (s *server) listFiles(ctx context.Context, in *struct {
	Content string `query:"content" enum:"any,certificate,application-rules,application"`
	Cursor  string `query:"cursor"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}) (*output[wire.Page[wire.File]], error) {
	kept, err := s.Flow.Files(ctx, actorOf(ctx), setting.Content(in.Content))
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	page, err := paged(kept, in.Cursor, in.Limit, fileOf)
	return out(page, s.fault(ctx, err))
}

// getFile handles the operation getFile: a file that is kept, and what is in it.
func (s *server) getFile(ctx context.Context, in *struct {
	SHA256 string `path:"sha256"`
}) (*output[wire.File], error) {
	kept, err := s.Flow.File(ctx, actorOf(ctx), in.SHA256)
	return out(fileOf(kept), s.fault(ctx, err))
}

// fileContent handles the operation fileContent: a file's bytes.
func (s *server) fileContent(ctx context.Context, in *struct {
	SHA256 string `path:"sha256"`
}) (*fileOutput, error) {
	kept, err := s.Flow.File(ctx, actorOf(ctx), in.SHA256)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	data, err := s.Flow.FileData(ctx, actorOf(ctx), in.SHA256)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	// What people added is never shown as a page of the service: always a download, of no type that
	// a browser runs.
	return &fileOutput{
		"application/octet-stream",
		"attachment; filename*=UTF-8''" + url.PathEscape(kept.Name),
		"sandbox; default-src 'none'",
		"private, max-age=31536000, immutable",
		data,
	}, nil
}
