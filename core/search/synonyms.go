// This file knows words of the trade that mean the same, or nearly so.
//
// A search that finds nothing although the setting is there is nearly always a matter of words:
// people say stick, the dictionary says removable storage. questions_test.go asks in the words of
// people, and names the setting that each question means. A word may be in several groups: it then
// stands for the words of all of them.

package search

import "strings"

// synonyms are groups of words that stand for one another in what people ask. Forms of a word need
// not be listed.
var synonyms = groups(
	"patch update fix hotfix upgrade",
	"upgrade release",
	"push deploy install installed rollout force forced always",
	"eject unmount disc",
	"choose pick select",
	"office company corporate internal intranet work inside",
	"pull taken removed out",
	"call phone contact",
	"charger ac mains plugged",
	"folder file document directory",
	"day hours daily",
	"list rules",
	"compulsory required enforce enforced must demand",
	"big large size space most limit",
	"quota limit most",
	"hide hidden reveal",
	"notify notice tell told inform",
	"stolen compromised revoked never distrust",
	"suspend sleep",
	"reboot restart",
	"boot startup start",
	"logon login log sign signin",
	"logoff logout signout",
	"drive disk hdd ssd harddisk",
	"stick usb thumb flash pendrive removable",
	"monitor display screen",
	"webcam camera",
	"mic microphone audio listen",
	"admin administrator root sudo",
	"bios uefi firmware setup",
	"wlan wifi wireless ssid",
	"tunnel vpn",
	"gateway proxy",
	"hostname host name address",
	"port socket connector",
	"traces private",
	"plugin extension addon",
	"website site page url",
	"desktop background wallpaper picture logo branding",
	"cipher encryption method algorithm",
	"encrypt encryption unreadable",
	"steal stolen lost theft thief",
	"escrow keep store kept",
	"delay postpone pause defer wait snooze",
	"deadline latest last overdue",
	"guess wrong failed brute attempts",
	"code pin passcode",
	"password passphrase",
	"backup copy copies save",
	"server destination target",
	"kiosk automatic autologon",
	"chip tpm",
	"smartcard card token",
	"finger fingerprint biometric",
	"telemetry diagnostic",
	"vendor maker manufacturer",
	"siem syslog",
	"ship send forward",
	"naming name pattern",
	"computer machine laptop pc notebook device",
	"domain directory",
	"wipe erase",
	"remote remotely afar distance",
	"helpdesk support",
	"finder found lost",
	"walk leave away presence",
	"mains plugged",
	"battery unplugged",
	"dark off idle",
	"energy power",
	"hotspot tethering public",
	"virus malware",
	"uninstall removal remove delete",
	"software application program app",
	"internet web anywhere",
	"approved allowed allow permitted",
	"forbid deny block disable prevent stop",
	"renew change expires age rotate",
	"digits length characters",
	"certificate cert ca authority",
	"swap page memory",
	"dump crash",
	"beta preview pilot",
	"satellite metered cellular",
	"share peers nearby each",
	"clock time",
	"german portuguese french spanish language locale keyboard layout",
	"keys keyboard",
	"popup pop",
	"advertiser tracking cookies",
	"sandbox isolation isolated risky untrusted",
	"sea offline voyage disconnected",
	"connection network",
	"warning notice banner legal",
	"mirror repository source package",
	"skip exclude",
	"questions prompt asking silent",
	"logs log audit",
	"several shared switch",
	"screenshot capture recording",
	"sleep standby suspend hibernate",
	"dvd cd optical burn",
	"print printing printer paper",
	"bootloader secure verified",
	"hypervisor virtual virtualisation vm",
	"thunderbolt dma memory",
)

// groups maps each word to the others of its groups.
func groups(lines ...string) map[string][]string {
	out := map[string][]string{}
	for _, line := range lines {
		words := strings.Fields(line)
		for _, w := range words {
			for _, other := range words {
				if other != w {
					out[form(w)] = append(out[form(w)], other)
				}
			}
		}
	}
	return out
}
