package adapter

import (
	"net"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// proxy is how programs of the desktop reach the web (dconf). Chromium takes it from there.
func proxy(h *Host) Adapter {
	const section = "system/proxy"
	return desktopOf(h, "local", "user", []entry{
		{"network.proxy.mode", section, "mode", choice("off", "'none'", "manual", "'manual'", "script", "'auto'")},
		{"network.proxy.script", section, "autoconfig-url", quoted()},
		{"network.proxy.exceptions", section, "ignore-hosts", quotedList()},
	})
}

// proxyAddress is the address of the proxy, which the desktop has as a host and a port for each protocol. It is an
// Adapter.
type proxyAddress struct{ *desktop }

func proxyServer(h *Host) Adapter { return &proxyAddress{desktopOf(h, "local", "user", nil)} }

// proxyProtocols are the sections for web pages without and with TLS.
var proxyProtocols = [2]string{"system/proxy/http", "system/proxy/https"}

// Settings implements Adapter.
func (p *proxyAddress) Settings() []setting.ID { return []setting.ID{"network.proxy.address"} }

// Read implements Adapter: both protocols have the same address, and nobody can override it.
func (p *proxyAddress) Read(setting.ID) (setting.Value, error) {
	all, err := p.values.all()
	if err != nil {
		return setting.Value{}, err
	}
	var first string
	for i, section := range proxyProtocols {
		host, named := quoted().from(all[place{section, "host"}])
		port := all[place{section, "port"}]
		for _, key := range []string{"host", "port"} {
			if locked, err := p.locked(section, key); err != nil || !locked {
				return setting.Value{}, err
			}
		}
		address := net.JoinHostPort(host.Text(), port)
		if i == 0 {
			first = address
		}
		if !named || port == "" || address != first {
			return setting.Value{}, nil
		}
	}
	return setting.TextValue(first), nil
}

// Apply implements Adapter.
func (p *proxyAddress) Apply(id setting.ID, v setting.Value) error {
	host, port, err := net.SplitHostPort(v.Text())
	name, ok := quoted().to(setting.TextValue(host))
	number, isNumber := strconv.ParseUint(port, 10, 16)
	if err != nil || !ok || host == "" || isNumber != nil {
		return &ValueError{id, v}
	}
	return p.alter(func(all map[place]string) {
		for _, section := range proxyProtocols {
			all[place{section, "host"}] = name
			all[place{section, "port"}] = strconv.FormatUint(number, 10)
		}
	})
}

// Withdraw implements Adapter.
func (p *proxyAddress) Withdraw(setting.ID) error {
	return p.alter(func(all map[place]string) {
		for _, section := range proxyProtocols {
			delete(all, place{section, "host"})
			delete(all, place{section, "port"})
		}
	})
}

// quoted writes texts between quotes, as dconf has them. Texts with a quote or a backslash are refused: no address
// has one.
func quoted() word {
	return word{
		func(v setting.Value) (string, bool) {
			return "'" + v.Text() + "'", v.Kind() == setting.Text && !strings.ContainsAny(v.Text(), "'\\\n\r\x00")
		},
		func(text string) (setting.Value, bool) {
			inner, is := strings.CutPrefix(text, "'")
			inner, was := strings.CutSuffix(inner, "'")
			return setting.TextValue(inner), is && was && !strings.ContainsAny(inner, `'\`)
		},
	}
}

// quotedList writes lists of texts between quotes.
func quotedList() word {
	one := quoted()
	return word{
		func(v setting.Value) (string, bool) {
			items, ok := make([]string, len(v.Items())), v.Kind() == setting.List
			for i, item := range v.Items() {
				text, is := one.to(setting.TextValue(item))
				items[i], ok = text, ok && is
			}
			if len(items) == 0 {
				return "@as []", ok // without a type an empty list has none
			}
			return "[" + strings.Join(items, ", ") + "]", ok
		},
		func(text string) (setting.Value, bool) {
			if text == "@as []" {
				return setting.ListValue(nil), true
			}
			inner, is := strings.CutPrefix(text, "[")
			inner, was := strings.CutSuffix(inner, "]")
			var items []string
			for item := range strings.SplitSeq(inner, ", ") {
				v, reads := one.from(item)
				items, is = append(items, v.Text()), is && reads
			}
			return setting.ListValue(items), is && was
		},
	}
}
