package adapter

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// browserPolicies is where Chromium reads what is managed on a laptop, for everybody.
const browserPolicies = "/etc/chromium/policies/managed/zridge.json"

// policies is a setting as policies of Chromium, which are read together.
type policies struct {
	id   setting.ID
	keys []string
	to   func(setting.Value) (map[string]any, bool)
	from func(map[string]any) (setting.Value, bool)
}

// managedBrowser is Chromium, by its file of managed policies.
type managedBrowser struct {
	host *Host
	of   []policies
}

func browser(h *Host) Adapter {
	return &managedBrowser{h, []policies{
		items("browser.blocked_sites", "URLBlocklist", site),
		items("browser.allowed_sites", "URLAllowlist", site),
		items("browser.extensions_installed", "ExtensionInstallForcelist", plain()),
		items("browser.extensions_allowed", "ExtensionInstallAllowlist", plain()),
		items("browser.extensions_blocked", "ExtensionInstallBlocklist", plain()),
		switches("browser.saved_passwords", true, "PasswordManagerEnabled"),
		switches("browser.sync", false, "SyncDisabled"),
		switches("browser.foreign_cookies", false, "BlockThirdPartyCookies"),
		switches("browser.camera_and_microphone", true, "VideoCaptureAllowed", "AudioCaptureAllowed"),
		options("browser.private_windows", "IncognitoModeAvailability", "allow", 0, "forbid", 1),
		options("browser.account_sign_in", "BrowserSignin", "forbid", 0, "allow", 1, "require", 2),
		popUps(), downloads(), homePage(), accountDomains(),
	}}
}

func (b *managedBrowser) Settings() []setting.ID {
	out := make([]setting.ID, len(b.of))
	for i := range b.of {
		out[i] = b.of[i].id
	}
	return out
}

func (b *managedBrowser) one(id setting.ID) *policies {
	return &b.of[slices.IndexFunc(b.of, func(p policies) bool { return p.id == id })]
}

func (b *managedBrowser) all() (map[string]any, error) {
	text, there, err := b.host.read(browserPolicies)
	all := map[string]any{}
	if err != nil || !there {
		return all, err
	}
	if json.Unmarshal([]byte(text), &all) != nil || all == nil {
		return map[string]any{}, nil // somebody broke it: nothing of it is in force
	}
	return all, nil
}

func (b *managedBrowser) Read(id setting.ID) (setting.Value, error) {
	all, err := b.all()
	p := b.one(id)
	for _, key := range p.keys {
		if _, set := all[key]; err != nil || !set {
			return setting.Value{}, err
		}
	}
	v, _ := p.from(all)
	return v, nil
}

func (b *managedBrowser) Apply(id setting.ID, v setting.Value) error {
	is, ok := b.one(id).to(v)
	if !ok {
		return &ValueError{id, v}
	}
	return b.alter(func(all map[string]any) { maps.Copy(all, is) })
}

func (b *managedBrowser) Withdraw(id setting.ID) error {
	return b.alter(func(all map[string]any) {
		for _, key := range b.one(id).keys {
			delete(all, key)
		}
	})
}

func (b *managedBrowser) alter(how func(map[string]any)) error {
	all, err := b.all()
	if err != nil {
		return err
	}
	if how(all); len(all) == 0 {
		return b.host.remove(browserPolicies)
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return b.host.write(browserPolicies, string(text)+"\n", 0o644) // Chromium looks for itself whether it has changed
}

// site is an address. Chromium takes a host for itself and all below it, and one with a dot before it for itself
// alone; it has no * within a host.
var site = word{
	func(v setting.Value) (string, bool) {
		text := v.Text()
		host, below := strings.CutPrefix(text, "*.")
		switch {
		case text == "*", strings.Contains(text, "/") && !strings.Contains(text, "*"):
			return text, true
		case text == "" || strings.Contains(host, "*") || strings.HasPrefix(host, ".") || strings.Contains(host, "/"):
			return "", false
		case below:
			return host, true
		}
		return "." + text, true
	},
	func(text string) (setting.Value, bool) {
		host, alone := strings.CutPrefix(text, ".")
		switch {
		case alone:
			return setting.TextValue(host), true
		case text == "*" || strings.Contains(text, "/"):
			return setting.TextValue(text), true
		}
		return setting.TextValue("*." + text), true
	},
}

// items is a list as a policy, with a word for each item.
func items(id setting.ID, key string, as word) policies {
	return policies{
		id, []string{key},
		func(v setting.Value) (map[string]any, bool) {
			out, ok := []string{}, v.Kind() == setting.List
			for _, item := range v.Items() {
				text, is := as.to(setting.TextValue(item))
				out, ok = append(out, text), ok && is
			}
			return map[string]any{key: out}, ok
		},
		func(all map[string]any) (setting.Value, bool) {
			list, ok := all[key].([]any)
			var out []string
			for _, i := range list {
				text, is := i.(string)
				v, reads := as.from(text)
				out, ok = append(out, v.Text()), ok && is && reads
			}
			return setting.ListValue(out), ok
		},
	}
}

// switches is a bool as policies that all say the same; with same false they say the opposite.
func switches(id setting.ID, same bool, keys ...string) policies {
	return policies{
		id, keys,
		func(v setting.Value) (map[string]any, bool) {
			out := map[string]any{}
			for _, key := range keys {
				out[key] = v.Bool() == same
			}
			return out, v.Kind() == setting.Bool
		},
		func(all map[string]any) (setting.Value, bool) {
			for _, key := range keys {
				if all[key] != all[keys[0]] {
					return setting.Value{}, false
				}
			}
			is, ok := all[keys[0]].(bool)
			return setting.BoolValue(is == same), ok
		},
	}
}

// options is a choice as a policy with numbers, which come in pairs with the options.
func options(id setting.ID, key string, pairs ...any) policies {
	return policies{
		id, []string{key},
		func(v setting.Value) (map[string]any, bool) {
			for i := 0; i < len(pairs); i += 2 {
				if pairs[i] == v.Text() {
					return map[string]any{key: pairs[i+1]}, v.Kind() == setting.Text
				}
			}
			return nil, false
		},
		func(all map[string]any) (setting.Value, bool) {
			for i := 1; i < len(pairs); i += 2 {
				if fmt.Sprint(all[key]) == fmt.Sprint(pairs[i]) {
					return setting.TextValue(pairs[i-1].(string)), true
				}
			}
			return setting.Value{}, false
		},
	}
}

// popUps is 1 where they are allowed, 2 where they are not.
func popUps() policies {
	const key = "DefaultPopupsSetting"
	return policies{
		"browser.pop_ups", []string{key},
		func(v setting.Value) (map[string]any, bool) {
			if v.Bool() {
				return map[string]any{key: 1}, true
			}
			return map[string]any{key: 2}, v.Kind() == setting.Bool
		},
		func(all map[string]any) (setting.Value, bool) {
			n, ok := all[key].(float64)
			return setting.BoolValue(n == 1), ok && (n == 1 || n == 2)
		},
	}
}

// downloads is what the browser stops, and whether it asks where a file goes.
func downloads() policies {
	const stops, asks = "DownloadRestrictions", "PromptForDownloadLocation"
	is := map[string][2]any{"allow": {0, false}, "ask": {0, true}, "block-dangerous": {1, false}, "block": {3, false}}
	return policies{
		"browser.downloads", []string{stops, asks},
		func(v setting.Value) (map[string]any, bool) {
			pair, known := is[v.Text()]
			return map[string]any{stops: pair[0], asks: pair[1]}, known
		},
		func(all map[string]any) (setting.Value, bool) {
			for word, pair := range is {
				if fmt.Sprint(all[stops]) == fmt.Sprint(pair[0]) && all[asks] == pair[1] {
					return setting.TextValue(word), true
				}
			}
			return setting.Value{}, false
		},
	}
}

// homePage is the page that the browser opens with its home button and at its start.
func homePage() policies {
	return policies{
		"browser.home_page", []string{"HomepageLocation", "HomepageIsNewTabPage"},
		func(v setting.Value) (map[string]any, bool) {
			return map[string]any{"HomepageLocation": v.Text(), "HomepageIsNewTabPage": false}, v.Kind() == setting.Text
		},
		func(all map[string]any) (setting.Value, bool) {
			text, ok := all["HomepageLocation"].(string)
			return setting.TextValue(text), ok && all["HomepageIsNewTabPage"] == false
		},
	}
}

// accountDomains is the pattern of the accounts that may sign in to the browser.
func accountDomains() policies {
	const key, begins, ends = "RestrictSigninToPattern", `.*@(`, `)`
	return policies{
		"browser.account_domains", []string{key},
		func(v setting.Value) (map[string]any, bool) {
			var escaped []string
			for _, domain := range v.Items() {
				escaped = append(escaped, regexp.QuoteMeta(domain))
			}
			return map[string]any{key: begins + strings.Join(escaped, "|") + ends}, v.Kind() == setting.List && len(escaped) > 0
		},
		func(all map[string]any) (setting.Value, bool) {
			text, ok := all[key].(string)
			text, begun := strings.CutPrefix(text, begins)
			text, ended := strings.CutSuffix(text, ends)
			return setting.ListValue(strings.Split(strings.ReplaceAll(text, `\`, ""), "|")), ok && begun && ended
		},
	}
}
