package adapter

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	firewallFile  = "/etc/zridge-agent/firewall.nft"
	firewallKept  = "firewall.listing" // what the kernel says of the table that was loaded
	networkScript = "/etc/NetworkManager/dispatcher.d/50-zridge-firewall"
)

// firewall is a table of our own in the kernel's packet filter (nftables). What other tables stop stays stopped. The
// kind of a network is the zone of its connection in NetworkManager: "work" is a company network, "home" one at home,
// and everything else is public.
func firewall(h *Host) Adapter {
	return &bundle{
		host: h, name: "firewall",
		ids: []setting.ID{
			"network.firewall.public", "network.firewall.company", "network.firewall.home", "network.firewall.inbound", "network.firewall.outbound",
			"network.firewall.rules", "network.firewall.logging",
		},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			text, err := filterOf(wanted)
			return map[string]file{firewallFile: {text: text, mode: 0o600}, networkScript: {text: kindOfNetwork, mode: 0o755}}, err
		},
		after: loadFirewall,
		force: func(h *Host, _ values) (bool, error) {
			was, _, known, err := h.before(firewallKept)
			if err != nil || !known {
				return false, err
			}
			is, err := listFirewall(h)
			return err == nil && is == was, nil // no such table: somebody removed it
		},
	}
}

// loadFirewall replaces the table in the kernel in one step, and keeps what the kernel says of it.
func loadFirewall(h *Host, files map[string]file) error {
	if h.Command == nil {
		return nil
	}
	if err := h.forget(firewallKept); err != nil {
		return err
	}
	if len(files) == 0 {
		if _, err := h.ask("nft", "add", "table", "inet", "zridge"); err != nil { // so that there is one to delete
			return err
		}
		_, err := h.ask("nft", "delete", "table", "inet", "zridge")
		return err
	}
	if _, err := h.ask("nft", "-f", h.At(firewallFile)); err != nil {
		return err
	}
	if err := h.run(h.At(networkScript), "all", "agent"); err != nil {
		return err
	}
	is, err := listFirewall(h)
	if err != nil {
		return err
	}
	return h.keep(firewallKept, is, true)
}

// listFirewall gives the table as the kernel has it, without counts and without the interfaces of each kind.
func listFirewall(h *Host) (string, error) {
	return h.ask("nft", "--stateless", "--terse", "list", "table", "inet", "zridge")
}

// kindOfNetwork is called by NetworkManager with an interface and what happened to it, and by us with "all".
const kindOfNetwork = `#!/bin/sh
# Written by zridge-agent. What is written here by hand is lost.
# The firewall knows by this which interfaces are on a company network, and which on one at home.
place() {
	for kind in company home; do
		nft delete element inet zridge $kind "{ \"$1\" }" 2>/dev/null
	done
	case $2 in
	work) nft add element inet zridge company "{ \"$1\" }" ;;
	home | trusted) nft add element inet zridge home "{ \"$1\" }" ;;
	esac
	return 0
}
command -v nmcli >/dev/null || exit 0
zone() { nmcli -g connection.zone connection show uuid "$1"; }
if [ "$1" = all ]; then
	nmcli -t -f DEVICE,UUID connection show --active | while IFS=: read -r interface id; do
		place "$interface" "$(zone "$id")"
	done
	exit 0
fi
case $2 in
up | connectivity-change | reapply) place "$1" "$(zone "$CONNECTION_UUID")" ;;
down) place "$1" "" ;;
esac
`

// direction is a chain of the table.
type direction struct {
	name, hook, interfaces, remote string
	word                           string // of the direction in a rule
}

var directions = [2]direction{
	{"inbound", "input", "iifname", "saddr", "in"},
	{"outbound", "output", "oifname", "daddr", "out"},
}

// filterOf gives the table for what is wanted. What is not said is as the dictionary's defaults say: the firewall is
// on in public and at home and off in the company, and stops what comes in.
func filterOf(wanted values) (string, error) {
	var out strings.Builder
	out.WriteString(heading + "table inet zridge\ndelete table inet zridge\ntable inet zridge {\n" +
		"\tset company {\n\t\ttype ifname\n\t}\n\tset home {\n\t\ttype ifname\n\t}\n")
	on := func(kind string, otherwise bool) bool {
		v, said := wanted[setting.ID("network.firewall."+kind)]
		return said && v.Bool() || !said && otherwise
	}
	logging := wanted["network.firewall.logging"].Text()
	for _, d := range directions {
		fmt.Fprintf(&out, "\tchain %s {\n\t\ttype filter hook %s priority filter - 10; policy accept;\n", d.name, d.hook)
		fmt.Fprintf(&out, "\t\t%s \"lo\" accept\n\t\tct state established,related accept\n", d.interfaces)
		for _, kind := range []struct {
			name string
			on   bool
		}{{"company", on("company", false)}, {"home", on("home", true)}, {"public", on("public", true)}} {
			if !kind.on {
				fmt.Fprintf(&out, "\t\t%saccept\n", onNetworks(d, kind.name))
			}
		}
		// Without these a laptop has no address.
		out.WriteString("\t\ticmpv6 type { nd-router-solicit, nd-router-advert, nd-neighbor-solicit, nd-neighbor-advert } accept\n" +
			"\t\tudp dport { 67, 68, 546, 547 } accept\n")
		for _, action := range []string{"block", "allow"} { // what one rule blocks no other allows
			for _, row := range wanted["network.firewall.rules"].Rows() {
				if row["direction"].Text() != d.word || row["action"].Text() != action {
					continue
				}
				matches, ok := matchesOf(d, row)
				if !ok {
					return "", &ValueError{"network.firewall.rules", wanted["network.firewall.rules"]}
				}
				for _, m := range matches {
					out.WriteString(verdict("\t\t"+m, action, logging))
				}
			}
		}
		otherwise := wanted["network.firewall."+setting.ID(d.name)].Text()
		if otherwise == "" {
			otherwise = map[string]string{"in": "block", "out": "allow"}[d.word]
		}
		out.WriteString(verdict("\t\t", otherwise, logging) + "\t}\n")
	}
	out.WriteString("}\n")
	return out.String(), nil
}

// verdict gives the lines that allow or block what matches, with a line for the log before where that is wanted.
func verdict(match, action, logging string) string {
	word, said := "accept", ""
	if action == "block" {
		word = "drop"
		if logging == "stopped" || logging == "everything" {
			said = match + "limit rate 20/second burst 50 packets log prefix \"zridge stopped: \"\n"
		}
	} else if logging == "everything" {
		said = match + "log prefix \"zridge let through: \"\n"
	}
	return said + match + word + "\n"
}

// onNetworks gives the match of the networks of a kind, with a space behind it.
func onNetworks(d direction, kind string) string {
	switch kind {
	case "company", "home":
		return d.interfaces + " @" + kind + " "
	case "public":
		return d.interfaces + " != @company " + d.interfaces + " != @home "
	}
	return ""
}

// matchesOf gives the matches of a rule, each with a space behind it: one for each address of the other side.
func matchesOf(d direction, row setting.Row) (matches []string, ok bool) {
	on := onNetworks(d, row["networks"].Text())
	ports, ok := portsOf(row["ports"].Text())
	if !ok {
		return nil, false
	}
	switch protocol := row["protocol"].Text(); {
	case protocol == "icmp" && ports == "":
		on += "meta l4proto { icmp, ipv6-icmp } "
	case protocol == "icmp":
		return nil, false // it has no ports
	case protocol == "tcp" || protocol == "udp":
		if on += "meta l4proto " + protocol + " "; ports != "" {
			on += "th dport " + ports + " "
		}
	case ports != "":
		on += "meta l4proto { tcp, udp } th dport " + ports + " "
	}
	remotes := row["remote"].Items()
	if len(remotes) == 0 {
		return []string{on}, true
	}
	for _, text := range remotes {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			address, err := netip.ParseAddr(text)
			if err != nil || address.Zone() != "" {
				return nil, false
			}
			network = netip.PrefixFrom(address, address.BitLen())
		}
		family := "ip6 "
		if network.Addr().Is4() {
			family = "ip "
		}
		matches = append(matches, on+family+d.remote+" "+network.Masked().String()+" ")
	}
	return matches, true
}

// portsOf gives numbers and ranges of ports as a set. Those that touch become one: the kernel refuses sets that
// overlap.
func portsOf(text string) (set string, ok bool) {
	if text == "" {
		return "", true
	}
	type span struct{ from, to uint64 }
	var spans []span
	for part := range strings.SplitSeq(text, ",") {
		from, to, ranged := strings.Cut(strings.TrimSpace(part), "-")
		if !ranged {
			to = from
		}
		a, err := strconv.ParseUint(from, 10, 16)
		b, err2 := strconv.ParseUint(to, 10, 16)
		if err != nil || err2 != nil || a > b {
			return "", false
		}
		spans = append(spans, span{a, b})
	}
	slices.SortFunc(spans, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	merged := spans[:1]
	for _, s := range spans[1:] {
		if last := &merged[len(merged)-1]; s.from <= last.to+1 {
			last.to = max(last.to, s.to)
		} else {
			merged = append(merged, s)
		}
	}
	words := make([]string, len(merged))
	for i, s := range merged {
		words[i] = strconv.FormatUint(s.from, 10)
		if s.to > s.from {
			words[i] += "-" + strconv.FormatUint(s.to, 10)
		}
	}
	return "{ " + strings.Join(words, ", ") + " }", true
}
