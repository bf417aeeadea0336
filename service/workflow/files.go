// This file has the use cases of files that values name: add one, read it, see that values name
// files that are there.

package workflow

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
	"zenithridge.example/zridge/service/store"
)

// DefaultMaxFile is the size of the largest file that is kept, in bytes, where the configuration
// names none.
const DefaultMaxFile = 32 << 20

// DefaultFileSpace is how much all files together may take, in bytes, where the configuration names
// nothing.
const DefaultFileSpace = 4 << 30

// Kept is a file that is kept, with what was read out of it.
type Kept struct {
	store.File
	Reading contents.Reading
	New     bool // it was not kept before
}

// MaxFile is the size of the largest file that is kept, in bytes.
func (s *FileService) MaxFile() int64 { return s.maxFile }

// FileService has the use cases of files that values name.
type FileService struct {
	*liveEstate
	maxFile int64         // bytes of the largest file that is kept
	space   int64         // bytes that all files together may take
	reading chan struct{} // as many as files are read at once
	search  *fileSearch   // for malware; nil: nothing is searched
}

// AddFile has a file searched for malware, reads it and keeps it. With keep off it is not kept. The
// error is a problem.Faults when the file is refused; it wraps malware.ErrUnavailable when it could
// not be searched.
func (s *FileService) AddFile(ctx context.Context, by Actor, name string, data []byte, o contents.Options, keep bool) (Kept, error) {
	if err := by.NeedSomewhere(access.Write); err != nil {
		return Kept{}, err
	}
	if err := checkFileName(name); err != nil {
		return Kept{}, err
	}
	if int64(len(data)) > s.maxFile {
		return Kept{}, problem.Faults{
			{
				Code:     problem.TooLarge,
				Path:     "/file",
				Found:    fmt.Sprintf("%d bytes", len(data)),
				Expected: fmt.Sprintf("at most %d", s.maxFile),
			},
		}
	}
	sum := sha256.Sum256(data)
	digest := hex.EncodeToString(sum[:])
	if err := s.refuseMalware(ctx, by, name, digest, data); err != nil {
		return Kept{}, err
	}
	s.reading <- struct{}{} // what is unpacked while reading is bounded; so is how many are read at once
	defer func() { <-s.reading }()
	if o.Day.IsZero() {
		o.Day = s.now()
		if day, err := time.Parse(time.DateOnly, string(s.fixed)); err == nil {
			o.Day = day.Add(24*time.Hour - time.Second) // what begins on the day is valid on it
		}
	}
	reading, err := contents.Read(name, data, o)
	if err != nil {
		return Kept{}, err
	}
	text, err := json.Marshal(reading)
	if err != nil {
		return Kept{}, err
	}
	file := store.File{
		SHA256:    digest,
		Name:      name,
		MediaType: reading.MediaType,
		Content:   string(reading.Content),
		Size:      int64(len(data)),
		Reading:   string(text),
		By:        by.Name,
		At:        s.now(),
	}
	if known, err := s.store.In(ctx).File(file.SHA256); err == nil {
		file.By, file.At = known.By, known.At
		return Kept{File: file, Reading: *reading}, nil
	}
	if keep {
		s.writing.Lock()
		defer s.writing.Unlock()
		err = s.store.Transaction(ctx, func(tx *store.Store) error {
			taken, err := tx.FileSpace()
			if err != nil {
				return err
			}
			if taken+file.Size > s.space {
				return problem.Faults{{
					Code:     problem.TooLarge,
					Path:     "/file",
					Found:    fmt.Sprintf("%d bytes more than the %d that files take now", file.Size, taken),
					Expected: fmt.Sprintf("at most %d bytes for all files together; the operator sets it with --file-space-mb", s.space),
				}}
			}
			if err := tx.AddFile(file, data); err != nil {
				return err
			}
			return s.audit(tx, by, store.AuditRecord{Action: "add file", Kind: "files", ObjectID: file.SHA256, After: name})
		})
	}
	return Kept{File: file, Reading: *reading, New: true}, err
}

func checkFileName(name string) error {
	if n := utf8.RuneCountInString(name); !utf8.ValidString(name) || n < 1 || n > 200 || strings.ContainsAny(name, `/\`) ||
		strings.ContainsFunc(name, unicode.IsControl) {
		return problem.Faults{
			{
				Code:     problem.OutOfRange,
				Path:     "/name",
				Found:    problem.Quote(name),
				Expected: "a file's name of 1 to 200 characters, with no folder in it",
			},
		}
	}
	return nil
}

// File gives a file that is kept.
func (s *FileService) File(ctx context.Context, by Actor, sha256 string) (Kept, error) {
	if err := by.Need(access.Read); err != nil {
		return Kept{}, err
	}
	f, err := s.store.In(ctx).File(sha256)
	if err != nil {
		return Kept{}, notFound(err, "file", sha256)
	}
	return keptOf(f)
}

func keptOf(f store.File) (Kept, error) {
	k := Kept{File: f}
	return k, json.Unmarshal([]byte(f.Reading), &k.Reading)
}

// FileData gives a kept file's bytes.
func (s *FileService) FileData(ctx context.Context, by Actor, sha256 string) ([]byte, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.fileData(ctx, sha256)
}

// FileOfLaptop gives a kept file's bytes to a laptop whose settings name it, and to no other.
func (s *FileService) FileOfLaptop(ctx context.Context, device estate.DeviceID, sha256 string) ([]byte, error) {
	if !s.needsFile(device, sha256) {
		return nil, &NotFoundError{"file that this laptop needs", sha256}
	}
	return s.fileData(ctx, sha256)
}

func (s *FileService) fileData(ctx context.Context, sha256 string) ([]byte, error) {
	data, err := s.store.In(ctx).FileData(sha256)
	if err != nil {
		return nil, notFound(err, "file", sha256)
	}
	return data, s.searchAgain(ctx, sha256, data)
}

// Files lists the files that are kept, the newest first; of one content, where one is named.
func (s *FileService) Files(ctx context.Context, by Actor, content setting.Content) ([]Kept, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	return s.stored(ctx, content)
}

// stored lists the files of one sort of contents.
func (s *FileService) stored(ctx context.Context, content setting.Content) ([]Kept, error) {
	rows, err := s.store.In(ctx).Files(string(content))
	if err != nil {
		return nil, err
	}
	out := make([]Kept, len(rows))
	for i, f := range rows {
		if out[i], err = keptOf(f); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// known gives what was read out of the files that are kept, and a policy as it is live.
func (s *FileService) known(ctx context.Context, policy estate.PolicyID) review.Known {
	read := &filesRead{ctx: ctx, FileService: s, certificates: map[string]*review.Certificate{}}
	read.identifiers = sync.OnceValue(read.listIdentifiers)
	return review.Known{Files: read, Before: s.Live().Plan.Policy(policy), Live: s.Live().Side}
}

// filesRead is what was read out of the files that are kept, for the findings of one request.
type filesRead struct {
	ctx context.Context
	*FileService
	identifiers  func() []string                // read once
	certificates map[string]*review.Certificate // by SHA-256, those that were asked for; nil: the file has none
}

// Certificate implements review.Files. Each file is read once, however often it is asked for.
func (r *filesRead) Certificate(sha256 string) (review.Certificate, bool) {
	c, known := r.certificates[sha256]
	if !known {
		c = r.readCertificate(sha256)
		r.certificates[sha256] = c
	}
	if c == nil {
		return review.Certificate{}, false
	}
	return *c, true
}

// readCertificate gives what a file holds that has one certificate, nil for other files.
func (r *filesRead) readCertificate(sha256 string) *review.Certificate {
	row, err := r.store.In(r.ctx).File(sha256)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	kept := Kept{}
	if err == nil {
		kept, err = keptOf(row)
	}
	if err != nil {
		r.log.Error("reading the file of a certificate", "error", err)
		return nil
	}
	if len(kept.Reading.Certificates) != 1 {
		return nil
	}
	is := &kept.Reading.Certificates[0]
	return &review.Certificate{
		Subject: is.Subject, Rank: is.Rank(), Root: is.SelfSigned, Authority: is.Authority,
		NotAfter: estate.Date(is.NotAfter.Format(time.DateOnly)),
	}
}

// Identifiers implements review.Files.
func (r *filesRead) Identifiers() []string { return r.identifiers() }

// listIdentifiers reads the identifiers of all applications that files were read of.
func (r *filesRead) listIdentifiers() []string {
	kept, err := r.stored(r.ctx, setting.ApplicationFile)
	if err != nil {
		r.log.Error("reading the files of applications", "error", err)
	}
	var out []string
	for _, k := range kept {
		if k.Reading.Application != nil {
			out = append(out, k.Reading.Application.Identifier)
		}
	}
	return out
}

// addStoredFiles sees that every file that an object's values name is kept and holds what its
// setting needs, and gives the object with the names and sizes that are kept. definition looks
// settings up, as they will be.
func (s *FileService) addStoredFiles(
	ctx context.Context,
	object any,
	definition func(setting.ID) *setting.Definition,
) (any, problem.Faults) {
	var faults problem.Faults
	hold := func(path string, id setting.ID, v setting.Value) setting.Value {
		v.EachFile(func(at []any, f setting.File) {
			content, takenFor := setting.AnyContent, setting.Store("")
			if d := definition(id); d != nil {
				content, takenFor = d.ContentAt(at), d.StoreAt(at)
			}
			kept, err := s.store.In(ctx).File(f.SHA256)
			switch {
			case errors.Is(err, store.ErrNotFound):
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.UnknownFile,
						Path:     problem.Join(path, at...),
						Found:    problem.Quote(f.SHA256),
						Expected: "a file that was added here; add it first",
					},
				)
			case err == nil && content != "" && content != setting.AnyContent && kept.Content != string(content):
				faults = append(
					faults,
					problem.Fault{
						Code:     problem.WrongContent,
						Path:     problem.Join(path, at...),
						Found:    problem.Quote(kept.Name) + ", " + contentWord(kept.Content),
						Expected: contentWord(string(content)),
					},
				)
			case err == nil && takenFor != "":
				of, err := keptOf(kept)
				if err != nil {
					return
				}
				if found, expected := of.Reading.StoreFault(takenFor); found != "" {
					faults = append(
						faults,
						problem.Fault{
							Code:     problem.WrongContent,
							Path:     problem.Join(path, at...),
							Found:    problem.Quote(kept.Name) + ", " + found,
							Expected: expected,
						},
					)
				}
			}
		})
		return v.WithFiles(func(f setting.File) setting.File {
			if kept, err := s.store.In(ctx).File(f.SHA256); err == nil {
				f.Size = kept.Size
				if f.Name == "" {
					f.Name = kept.Name
				}
			}
			return f
		})
	}
	switch o := object.(type) {
	case estate.Policy:
		entries := make([]estate.Entry, len(o.Entries))
		for i, e := range o.Entries {
			e.Value = hold(problem.Join("", "settings", string(e.Setting)), e.Setting, e.Value)
			entries[i] = e
		}
		o.Entries = entries
		return o, faults
	case estate.Baseline:
		items := make([]estate.BaselineItem, len(o.Items))
		for i, item := range o.Items {
			item.Value = hold(problem.Join("", "settings", string(item.Setting)), item.Setting, item.Value)
			items[i] = item
		}
		o.Items = items
		return o, faults
	case estate.Exception:
		o.Value = hold("/value", o.Setting, o.Value)
		return o, faults
	}
	return object, nil
}

func contentWord(content string) string {
	switch setting.Content(content) {
	case setting.CertificateFile:
		return "a certificate"
	case setting.RulesFile:
		return "a rule set of application control"
	case setting.ApplicationFile:
		return "the file of an application"
	}
	return "a file of another kind"
}

// needsFile tells whether a laptop's wanted settings name a file.
func (s *FileService) needsFile(device estate.DeviceID, sha256 string) bool {
	r, err := s.PlanFor(s.Live(), string(device)).Reasons(device, "")
	if err != nil {
		return false
	}
	needs := false
	for s := range r.Outcomes {
		s.Value.EachFile(func(_ []any, f setting.File) { needs = needs || f.SHA256 == sha256 })
	}
	return needs
}
