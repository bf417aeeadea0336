// This file notices what somebody alters on the laptop, and puts it right.

package agent

import (
	"bufio"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// driftsKept is how many of the things that were altered are kept for the service.
const driftsKept = 500

// CheckDrift reads every managed value, notes those that somebody altered, and puts them right unless their policies
// only want to know. After a start of the system what was lost is put right without a note: nobody altered it.
func (a *Agent) CheckDrift() error {
	unlock, err := a.Folder.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	p, err := a.open()
	if err != nil {
		return err
	}
	return p.checkDrift(bootID(a.Host), time.Now().UTC())
}

func (p *platform) checkDrift(boot string, now time.Time) error {
	started := p.state.Boot != boot
	altered := started
	p.state.Boot = boot
	is := p.Reported()
	for _, id := range p.state.managedIDs() {
		wanted, found := p.state.Managed[id], is[id]
		was, known := p.state.Altered[id]
		if found.Equal(wanted) {
			if p.state.Later[id] {
				delete(p.state.Later, id)
				altered = true
			}
			if known { // somebody put it right
				delete(p.state.Altered, id)
				altered = true
			}
			continue
		}
		if p.state.Later[id] {
			continue // it is not in force yet
		}
		only := p.state.Why[id].OnDrift == syncml.OnlyReport
		if only && known && was.Equal(found) {
			continue // it is noted
		}
		altered = true
		d := syncml.Drift{Setting: id, Found: found, At: now, By: p.author(id, now)}
		if !only || started {
			d.Repaired = p.Apply(id, wanted) == syncml.OK
		} else {
			p.state.Altered[id] = found
		}
		if !started {
			p.log.Info("a setting was altered", "setting", id, "by", d.By, "put right", d.Repaired)
			p.state.Drifts = append(p.state.Drifts, d)
		}
	}
	if n := len(p.state.Drifts) - driftsKept; n > 0 {
		p.state.Drifts = slices.Clone(p.state.Drifts[n:])
	}
	if !altered {
		return nil
	}
	return p.folder.WriteState(p.state)
}

// Drifts implements endpoint.Watcher.
func (p *platform) Drifts() []syncml.Drift { return p.state.Drifts }

// Told implements endpoint.Watcher.
func (p *platform) Told(n int) { p.state.Drifts = slices.Clone(p.state.Drifts[n:]) }

// bootID gives a text that is another after each start of the system.
func bootID(h *adapter.Host) string {
	data, _ := os.ReadFile(h.At("/proc/sys/kernel/random/boot_id")) // without it every start is taken for the same
	return strings.TrimSpace(string(data))
}

// settling is how long nothing must be altered before values are read: programs write several files.
const settling = 300 * time.Millisecond

// watch reads values again when a file is altered in which one of them is, until the context ends.
func (a *Agent) watch(ctx context.Context) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return err
	}
	defer w.Close()
	timer := time.NewTimer(0) // at once, for what was altered while nobody looked
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-w.Errors:
			a.Log.Warn("watching files", "error", err)
			timer.Reset(settling) // something may have been missed
		case e := <-w.Events:
			if !strings.HasSuffix(e.Name, adapter.FreshSuffix) {
				timer.Reset(settling)
			}
		case <-timer.C:
			// First the folders, then the values: what is altered in between is seen by one of the two.
			if err := a.watchFolders(w); err != nil {
				a.Log.Warn("watching files", "error", err)
			}
			if err := a.CheckDrift(); err != nil {
				a.Log.Warn("reading what is in force", "error", err)
			}
		}
	}
}

// watchFolders watches the folders of the files in which managed values are, and no others. A folder that is not there
// is looked for again after the next check-in.
func (a *Agent) watchFolders(w *fsnotify.Watcher) error {
	state, err := a.Folder.ReadState()
	if err != nil {
		return err
	}
	wanted := map[string]bool{string(a.Folder): true} // where the state is: what is managed may be otherwise
	for _, path := range adapter.Paths(a.Host, state.managedIDs()) {
		wanted[filepath.Dir(a.Host.At(path))] = true
	}
	for _, folder := range w.WatchList() {
		if !wanted[folder] {
			if err := w.Remove(folder); err != nil {
				return err
			}
		}
	}
	var errs []error
	for folder := range wanted {
		if err := w.Add(folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// around is how long before or after a file was altered something must have happened that may have altered it.
const around = 2 * time.Minute

// author tells who may have altered a setting: a package that was installed at the time, or a person who became root. It
// is empty where the system does not know.
func (p *platform) author(id setting.ID, now time.Time) string {
	var at time.Time
	for _, path := range adapter.Paths(p.host, []setting.ID{id}) {
		if is, err := os.Lstat(p.host.At(path)); err == nil && is.ModTime().After(at) {
			at = is.ModTime()
		}
	}
	if at.IsZero() {
		at = now // it is gone: just now, as far as is known
	}
	if name := lastMatch(p.host.At("/var/log/dpkg.log"), packageLine, "2006-01-02 15:04:05", at); name != "" {
		return "package " + name
	}
	if name := lastMatch(p.host.At("/var/log/auth.log"), sudoLine, time.RFC3339Nano, at); name != "" {
		return "person " + name + ", as root"
	}
	return ""
}

var (
	packageLine = regexp.MustCompile(`^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (?:configure|install|upgrade|remove) ([a-z0-9.+-]+)`)
	sudoLine    = regexp.MustCompile(`^(\S+) \S+ sudo: +(\S+) : .*COMMAND=`)
)

// lastMatch gives what the last line of a log says that is near a moment; empty where there is none.
func lastMatch(path string, line *regexp.Regexp, layout string, at time.Time) (name string) {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	if is, err := f.Stat(); err == nil && is.Size() > logRead {
		if _, err := f.Seek(-logRead, 2); err != nil {
			return ""
		}
	}
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		m := line.FindStringSubmatch(lines.Text())
		if m == nil {
			continue
		}
		if when, err := time.ParseInLocation(layout, m[1], time.Local); err == nil && when.Sub(at).Abs() <= around {
			name = m[2]
		}
	}
	return name
}

// logRead is how much of the end of a log is read, in bytes.
const logRead = 256 << 10
