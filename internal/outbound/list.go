// Package outbound calls what is outside of the service: destinations that the administrator has listed, and nothing else.
//
// It holds against whoever chooses a destination: what a name resolves to is checked when the connection is made, so that
// a name that comes to mean another address, or a redirect, leads nowhere; and an answer takes no more time and memory
// than stated here, however long it is and however slowly it comes.
package outbound

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"
)

// Entry is one destination that may be called: everything below one address.
type Entry struct {
	Scheme string // https, or http
	Host   string // a name or an address, in lower case
	Port   string
	Path   string // that a called path begins with, up to the end or to a slash
	// Networks are those that the host may lie in. None means: any public address, and none that is private.
	Networks []netip.Prefix
	text     string
}

// String is the entry as it was written.
func (e Entry) String() string { return e.text }

// List is what may be called.
type List []Entry

// NewList reads entries, each written as an address, and behind it, with "=" and commas between, the networks in which its
// host lies where these are not public: https://builds.example/hooks, http://bench.lan:8080=10.0.3.0/24.
func NewList(texts []string) (List, error) {
	var l List
	for _, t := range texts {
		e, err := parse(t)
		if err != nil {
			return nil, err
		}
		l = append(l, e)
	}
	return l, nil
}

func parse(text string) (Entry, error) {
	wrong := func(why string, args ...any) (Entry, error) {
		return Entry{}, fmt.Errorf("%q is no destination: %s; such as https://builds.example/hooks, or, in a network that "+
			"is not public, http://bench.lan:8080=10.0.3.0/24", text, fmt.Sprintf(why, args...))
	}
	address, networks, private := strings.Cut(text, "=")
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.Hostname() == "":
		return wrong("it has no host")
	case u.Scheme != "https" && u.Scheme != "http":
		return wrong("only https, and http, are spoken")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return wrong("it has no name, password, query or fragment")
	case strings.Contains(u.Hostname(), "*"):
		return wrong("every host is named")
	}
	e := Entry{Scheme: u.Scheme, Host: host(u), Port: port(u), Path: strings.TrimSuffix(u.EscapedPath(), "/"), text: text}
	if !private {
		switch ip, err := netip.ParseAddr(e.Host); {
		case err == nil: // it is stated, whatever it is
			e.Networks = []netip.Prefix{netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen())}
		case e.Host == "localhost":
			e.Networks = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}
		}
		return e, nil
	}
	for one := range strings.SplitSeq(networks, ",") {
		p, err := netip.ParsePrefix(one)
		if err != nil {
			ip, notAddress := netip.ParseAddr(one)
			if notAddress != nil {
				return wrong("%q is neither an address nor a network", one)
			}
			p = netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen())
		}
		e.Networks = append(e.Networks, p.Masked())
	}
	return e, nil
}

func host(u *url.URL) string { return strings.TrimSuffix(strings.ToLower(u.Hostname()), ".") }

func port(u *url.URL) string {
	if p := u.Port(); p != "" {
		return p
	}
	return map[string]string{"https": "443", "http": "80"}[u.Scheme]
}

// ErrNotListed is returned for a destination that is not on the list.
var ErrNotListed = errors.New("is not among the destinations that the administrator allows")

// Allows says whether an address may be called, as far as that can be said before its host is looked up; nil: it may.
func (l List) Allows(raw string) error {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return fmt.Errorf("%q is no address: https://HOST/PATH", raw)
	}
	if u.User != nil || u.Fragment != "" {
		return errors.New("an address has no name, password or fragment: what a destination asks for goes into a header")
	}
	called := u.EscapedPath()
	if lower := strings.ToLower(called); called != "" && path.Clean(called) != strings.TrimSuffix(called, "/") && called != "/" ||
		strings.Contains(lower, "%2e") || strings.Contains(lower, "%2f") && strings.Contains(lower, "..") || strings.Contains(lower, "%5c") {
		return fmt.Errorf("the path %s leads elsewhere on its way", called)
	}
	if !slices.ContainsFunc(l, func(e Entry) bool {
		return e.Scheme == u.Scheme && e.Host == host(u) && e.Port == port(u) &&
			(e.Path == "" || called == e.Path || strings.HasPrefix(called, e.Path+"/"))
	}) {
		return fmt.Errorf("%s %w; it is allowed with: tavrin serve --allow-destination %s", shown(u), ErrNotListed, shown(u))
	}
	return nil
}

// shown is an address without its query, in which there may be secrets.
func shown(u *url.URL) string {
	return (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String()
}

// permits says whether a connection may be made to an address that a listed host and port were found at; nil: it may.
func (l List) permits(host, port string, ip netip.Addr) error {
	ip = ip.Unmap().WithZone("")
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	for _, e := range l {
		if e.Host != host || e.Port != port {
			continue
		}
		if len(e.Networks) == 0 && public(ip) || slices.ContainsFunc(e.Networks, func(p netip.Prefix) bool { return p.Contains(ip) }) {
			return nil
		}
	}
	return fmt.Errorf("%s is at %s, which %w: the administrator would have to name the network, with --allow-destination "+
		"URL=%s", net.JoinHostPort(host, port), ip, ErrNotListed, ip)
}

// reserved are the networks that are not public: IANA's registries of special-purpose addresses (RFC 6890 and those after
// it), and those that carry an IPv4 address within.
var reserved = func() []netip.Prefix {
	var out []netip.Prefix
	for _, text := range []string{
		"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24",
		"192.31.196.0/24", "192.52.193.0/24", "192.88.99.0/24", "192.168.0.0/16", "192.175.48.0/24", "198.18.0.0/15",
		"198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
		"::/96", "::ffff:0:0/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16",
		"3fff::/20", "5f00::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8",
	} {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}()

func public(ip netip.Addr) bool {
	return !slices.ContainsFunc(reserved, func(p netip.Prefix) bool { return p.Contains(ip) })
}
