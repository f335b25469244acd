package reading

import (
	"net"
	"net/url"
	"strings"
)

// otherPeer is who was spoken to by a text when that is not the machine, at that port,
// that the address names; empty when it is, or cannot be told. An address can stand for
// several names of one service, so another name with the port of the address is none.
func (r *Rule) otherPeer(address, text string) string {
	if r == nil || r.peer == nil {
		return ""
	}
	m := r.peer.FindStringSubmatch(text)
	asked, err := url.Parse(address)
	if m == nil || err != nil || asked.Hostname() == "" {
		return ""
	}
	peer := m[r.peer.SubexpIndex("peer")]
	host, port, err := net.SplitHostPort(peer)
	if at := strings.LastIndexByte(peer, ':'); err != nil && at > 0 { // an IPv6 address without its brackets
		host, port = peer[:at], peer[at+1:]
	} else if err != nil {
		host, port = peer, ""
	}
	if host == asked.Hostname() || port != "" && port == portOf(asked) {
		return ""
	}
	return peer
}

// portOf is the port that an address names, or that of its scheme.
func portOf(u *url.URL) string {
	switch {
	case u.Port() != "":
		return u.Port()
	case u.Scheme == "https":
		return "443"
	}
	return "80"
}
