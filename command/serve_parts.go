// This file reads the parts of serve's configuration that have a form of their own.

package command

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/service/announce"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/httpapi"
	"zenithridge.example/zridge/service/signin"
)

// smtpOf reads how e-mail is sent.
func smtpOf(c *cli.Command) (out announce.SMTP, err error) {
	out = announce.SMTP{Address: c.String("smtp"), From: c.String("smtp-from"), User: c.String("smtp-user"), Plain: c.Bool("smtp-plain")}
	if out.Address == "" {
		return out, nil
	}
	host, _, err := net.SplitHostPort(out.Address)
	if err != nil {
		return out, usage("serve: found %s, expected the HOST:PORT of an SMTP server", problem.Quote(out.Address))
	}
	if out.From == "" {
		return out, usage("serve: --smtp needs --smtp-from, the address that announcements come from")
	}
	if ip := net.ParseIP(host); out.Plain && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return out, usage("serve: --smtp-plain is for an SMTP server on loopback, found %s", problem.Quote(host))
	}
	if file := c.String("smtp-password"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return out, fmt.Errorf("the password of the SMTP server: %w", err)
		}
		out.Password = strings.TrimRight(string(text), "\r\n")
	}
	return out, nil
}

// networkOf reads an address, or a network as an address with the length of its prefix.
func networkOf(text string) (netip.Prefix, error) {
	if address, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(address, address.BitLen()), nil
	}
	network, err := netip.ParsePrefix(text)
	return network.Masked(), err
}

// oidcOf reads how people sign in through an issuer.
func oidcOf(c *cli.Command) (httpapi.OIDC, error) {
	o := httpapi.OIDC{
		Issuer: c.String("oidc-issuer"), Title: c.String("oidc-title"), Client: c.String("oidc-client"), GroupsClaim: c.String("oidc-groups"),
		Strengths: c.StringSlice("oidc-acr"),
	}
	if o.Issuer == "" {
		return o, nil
	}
	if !strings.HasPrefix(o.Issuer, "https://") && !strings.HasPrefix(o.Issuer, "http://127.0.0.1:") || o.Client == "" {
		return o, usage("serve: --oidc-issuer takes an https address and needs --oidc-client")
	}
	if file := c.String("oidc-secret"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return o, err
		}
		o.Secret = strings.TrimSpace(string(text))
	}
	for _, text := range c.StringSlice("oidc-grant") {
		group, role, ok := strings.Cut(text, "=")
		role, unit, _ := strings.Cut(role, "@")
		if !ok || group == "" || role == "" {
			return o, usage("serve: found --oidc-grant %s, expected GROUP=ROLE or GROUP=ROLE@UNIT", problem.Quote(text))
		}
		o.Grants = append(o.Grants, signin.GroupGrant{Group: group, Role: role, Unit: unit})
	}
	return o, nil
}

// factorsDemanded gives the roles that demand a second factor: those that the service was told, else every role where
// it is reached over a network.
func factorsDemanded(named []string, listen string, proxied bool) []string {
	host, _, err := net.SplitHostPort(listen)
	ip := net.ParseIP(host)
	loopback := err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
	switch {
	case slices.Equal(named, []string{"none"}):
		return nil
	case len(named) == 0 && (!loopback || proxied):
		return []string{signin.EveryRole}
	}
	return named
}

// escrowOf says where the escrow identities are, and what protects them.
func escrowOf(c *cli.Command, s Streams) (out escrow.Config, err error) {
	out.File = c.String("escrow-key")
	if out.Passphrase, err = passphrase(c, s, "escrow-passphrase", "the escrow identities"); err != nil {
		return out, err
	}
	out.Module = escrow.Module{Path: c.String("escrow-module"), Token: c.String("escrow-token"), Key: c.String("escrow-module-key")}
	pin := c.String("escrow-pin")
	if (out.Module.Path == "") != (pin == "") || (out.Module.Path == "") != (out.Module.Token == "") {
		return out, usage("serve: --escrow-module needs --escrow-token and --escrow-pin, and neither is of use without it")
	}
	if pin != "" {
		text, err := os.ReadFile(pin)
		if err != nil {
			return out, fmt.Errorf("the PIN of the security module: %w", err)
		}
		out.Module.PIN = strings.TrimRight(string(text), "\r\n")
	}
	return out, nil
}

// passphrase reads the passphrase by which something is encrypted, from the file that a flag names; empty where the flag
// is not given.
func passphrase(c *cli.Command, s Streams, flag, of string) (string, error) {
	file := c.String(flag)
	if file == "" {
		return "", nil
	}
	var text string
	var err error
	if file == "-" {
		text, err = readPassword(s, "Passphrase of "+of+": ")
	} else {
		var data []byte
		data, err = os.ReadFile(file)
		text = strings.TrimRight(string(data), "\r\n")
	}
	if err == nil && (len(text) < 12 || len(text) > 1024) {
		err = usage("serve: the passphrase of %s has %d bytes, expected 12 to 1024", of, len(text))
	}
	return text, err
}
