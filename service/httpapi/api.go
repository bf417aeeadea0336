// Package httpapi is the HTTP face of the service: the API under /api/v1 with its OpenAPI 3.1
// document, the endpoint for laptops under /dm and /enrol, and the console. Handlers decode, call
// one use case and encode; faults become application/problem+json in one table (fault.go).
package httpapi

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"regexp"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-contrib/gzip"
	"github.com/gin-gonic/gin"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/checkin"
	"zenithridge.example/zridge/service/enrolment"
	"zenithridge.example/zridge/service/scim"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/workflow"
)

// Config says what the API is made of.
type Config struct {
	Flow      *workflow.Service
	SignIn    *signin.Service
	CheckIn   *checkin.Server
	Mail      func(ctx context.Context, to, subject, text string) error // sends one e-mail at once; of use where SendsMail is true
	Enrolment *enrolment.Service                                        // nil: laptops enrol with secrets, since there is no TLS
	BySecret  bool                                                      // laptops may enrol with secrets
	Console   fs.FS                                                     // the built console; nil: none
	Log       *slog.Logger
	Proxies   []netip.Prefix         // whose X-Forwarded headers are believed
	MayHost   func(host string) bool // whether the service answers to a name; nil: to any
	OIDC      OIDC                   // how people sign in through an issuer
	Clock     Clock                  // that rollouts and check-ins count in
	HookKey   string                 // public key of webhooks, in base64; empty: none are sent
	SendsMail bool                   // there is an SMTP server
	Ending    <-chan struct{}        // closed when the service ends: streams end then, requests are finished
}

// Clock is the time that rollouts and check-ins count in.
type Clock interface {
	Now() time.Time
	Speed() float64 // 1: real time
}

// server holds what handlers need.
type server struct {
	Config
	api     huma.API
	streams streams
	oidc    oidcFlow
}

const (
	maxBody       = 1 << 20
	maxImportBody = 64 << 20
)

// compressAnswers compresses what the API answers where the caller takes it. Streams and files are sent
// as they are. Compression tells nothing of secrets: sessions are bound to this site (SameSite), so
// no other site can have answers made that mix its text with ours.
var compressAnswers = gzip.Gzip(gzip.BestSpeed, gzip.WithCustomShouldCompressFn(func(c *gin.Context) bool {
	path, is := strings.CutPrefix(c.Request.URL.Path, "/api/v1/")
	for _, part := range []string{"events", "exports/", "files/"} {
		is = is && !strings.HasPrefix(path, part)
	}
	return is && accepts(c.GetHeader("Accept-Encoding"), "gzip")
}))

// New gives the handler of everything that the service answers.
func New(c Config) http.Handler {
	_, engine := build(c)
	return limited(http.NewCrossOriginProtection().Handler(engine))
}

// Document gives the OpenAPI document, from which clients are generated.
func Document() ([]byte, error) {
	s, _ := build(Config{})
	return s.api.OpenAPI().MarshalJSON()
}

// configureLibraries sets what Gin and huma keep in variables of their packages. Several services
// may run in one process.
var configureLibraries = sync.OnceFunc(func() {
	gin.SetMode(gin.ReleaseMode)
	huma.DefaultArrayNullable = false
	huma.NewError = newProblem
})

func build(c Config) (*server, *gin.Engine) {
	configureLibraries()
	engine := gin.New()
	engine.HandleMethodNotAllowed = true
	s := &server{Config: c}
	engine.Use(s.recovered, withRequestID, s.locate, secureHeaders, compressAnswers)

	config := huma.DefaultConfig("Zenith Ridge", "1.0.0")
	config.Info.Description = "Write policies, see what all of them together do to every laptop, publish, and watch laptops take it."
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "", "", ""
	config.CreateHooks = nil
	config.Formats = map[string]huma.Format{"application/json": jsonFormat, "json": jsonFormat}
	config.RejectUnknownQueryParameters = true
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie},
		"token":   {Type: "http", Scheme: "bearer"},
	}
	describeEstate(config.Components.Schemas)
	s.api = humagin.New(engine, config)
	s.api.UseMiddleware(s.authenticate)

	s.registerSession()
	s.registerAccounts()
	s.registerAccess()
	s.registerSecondFactor()
	s.registerPasskeys()
	s.registerOverview()
	s.registerAudit()
	s.registerDevices()
	s.registerEnrolment()
	s.registerRecovery()
	s.registerPolicies()
	s.registerEstate()
	s.registerChanges()
	s.registerFiles()
	s.registerSources()
	s.registerAudience()
	s.registerGroups()
	s.registerUnits()
	s.registerCompare()
	s.registerExceptions()
	s.registerLists()
	s.registerEvents()
	s.registerPast()
	s.registerAnnouncements()

	engine.GET("/api/v1/openapi.json", s.signedIn, s.document())
	if s.OIDC.Issuer != "" {
		engine.GET("/api/v1/oidc/start", s.startOIDC)
		engine.GET("/api/v1/oidc/answer", s.answerOIDC)
	}
	engine.POST("/dm", s.deviceManagement)
	engine.POST("/enrol", s.enrol)
	s.registerEST(engine)
	engine.GET("/dm/files/:sha256", s.laptopFile)
	engine.GET("/dm/notifications", s.notifications)
	engine.GET("/api/v1/exports/:of", s.export)
	engine.POST("/api/v1/sources/:id/tables", s.uploadTable)
	s.describePassedOn()
	s.registerSCIM(engine)
	engine.NoRoute(s.noRoute)
	engine.NoMethod(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/scim/") {
			refuseSCIM(
				c,
				&scim.Error{
					Status: http.StatusMethodNotAllowed,
					Detail: "found " + c.Request.Method + ", expected another method for this address",
				},
			)
			return
		}
		writeProblem(
			c.Writer,
			problemOf(
				http.StatusMethodNotAllowed,
				"method-not-allowed",
				"found "+c.Request.Method+", expected another method for this address",
			),
		)
	})
	return s, engine
}

// jsonFormat is JSON as it is read and written here: in UTF-8, without characters that steer a
// terminal.
var jsonFormat = huma.Format{
	Marshal: huma.DefaultJSONFormat.Marshal,
	Unmarshal: func(data []byte, v any) error {
		if !utf8.Valid(data) {
			return errors.New("found bytes that are not UTF-8")
		}
		if steering.Match(data) {
			return errors.New("found a control character in a text")
		}
		return huma.DefaultJSONFormat.Unmarshal(data, v)
	},
}

// steering finds control characters but tabs and ends of lines, as they are and escaped. An escaped
// backslash before what looks like an escape is taken for one with it.
var steering = regexp.MustCompile(`[\x{7f}-\x{9f}]|(^|[^\\])(\\\\)*\\(b|f|u00(0[0-8bBcCeEfF]|1[0-9a-fA-F]|7[fF]|[89][0-9a-fA-F]))`)

// operation gives the description of an operation. It needs access.Read unless an option says
// otherwise.
func operation(id, method, path, summary string, options ...func(*huma.Operation)) huma.Operation {
	op := huma.Operation{
		OperationID:     id,
		Method:          method,
		Path:            "/api/v1" + path,
		Summary:         summary,
		MaxBodyBytes:    maxBody,
		BodyReadTimeout: within,
		Security: []map[string][]string{
			{"session": {}},
			{"token": {}},
		},
		Metadata: map[string]any{},
		Errors:   []int{400, 401, 403, 404, 409, 412, 413, 415, 421, 422, 428, 500, 503},
	}
	for _, o := range options {
		o(&op)
	}
	if op.Metadata["public"] != true {
		op.Extensions = map[string]any{"x-right": rightOf(&op)}
	}
	return op
}

// public lets anybody call.
func public(op *huma.Operation) {
	op.Metadata["public"] = true
	op.Security, op.Errors = nil, nil
}

// needs says which right an operation needs; without it that is access.Read.
func needs(right access.Right) func(*huma.Operation) {
	return func(op *huma.Operation) { op.Metadata["right"] = right }
}

// ownAccount marks an operation on the caller's own account: it needs somebody who is signed in,
// and no right.
func ownAccount(op *huma.Operation) { op.Metadata["right"] = access.Right("") }

// recently marks an operation before which somebody at a session is asked for their password again.
func recently(op *huma.Operation) { op.Metadata["recent"] = true }

// rightOf gives the right that an operation needs; empty: none.
func rightOf(op *huma.Operation) access.Right {
	if right, named := op.Metadata["right"].(access.Right); named {
		return right
	}
	return access.Read
}

func status(code int) func(*huma.Operation) {
	return func(op *huma.Operation) { op.DefaultStatus = code }
}
